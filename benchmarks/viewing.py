"""The live view: from a gesture in a browser to its picture, the first picture, memory."""

from __future__ import annotations

import contextlib
import json
import shutil
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import spectrane as sp
from benchmarks.contest import Row, contest
from benchmarks.scenes import big_file
from benchmarks.volumes import plain_volume
from spectrane.display.layers import PlannedLayer
from spectrane.viewing.rasters import RasterView
from spectrane.viewing.server import Live
from spectrane.viewing.session import Session

TIMES = 50
_FLAGS = ["--no-sandbox", "--disable-gpu", "--no-first-run"]
_GESTURE = """gesture => new Promise(resolve => {
  const body = document.body, before = body.dataset.painted, start = performance.now();
  new MutationObserver((_, watch) => {
    if (body.dataset.painted === before) return;
    watch.disconnect();
    requestAnimationFrame(() => resolve(performance.now() - start));
  }).observe(body, { attributes: true, attributeFilter: ['data-painted'] });
  const slide = (name, share) => {
    const one = document.querySelector(`input[type=range][aria-label="${name}"]`);
    one.value = Number(one.min) + share * (one.max - one.min);
    one.dispatchEvent(new Event('input'));
  };
  const stage = document.getElementById('stage'), box = stage.getBoundingClientRect();
  const at = { clientX: box.left + 200, clientY: box.top + 200, bubbles: true, cancelable: true };
  if (gesture.slide) slide(gesture.slide, gesture.share);
  else if (gesture.choose) {
    const menu = document.querySelector(`select[aria-label="${gesture.choose}"]`);
    menu.selectedIndex = gesture.index;
    menu.dispatchEvent(new Event('change'));
  } else if (gesture.press) {
    document.querySelector(`button[aria-label="${gesture.press}"]`).click();
  } else if (gesture.key) {
    document.dispatchEvent(new KeyboardEvent('keydown', { key: gesture.key, bubbles: true }));
  } else {
    document.querySelector('.pane').dispatchEvent(new WheelEvent('wheel',
      { ...at, deltaY: gesture.wheel }));
  }
})"""


def rows(folder: Path) -> Iterator[Row]:
    """Measure every row; none where there is no Chromium."""
    yield _server_side(folder)
    chromium = shutil.which("chromium") or shutil.which("chromium-browser")
    if chromium is None:
        print("no Chromium: gestures are not measured")
        return
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=chromium, args=_FLAGS)
        yield from _of_rasters(browser, str(big_file(folder, overviews=True)))
        yield from _of_volumes(browser, str(plain_volume(folder)))
        browser.close()


def _server_side(folder: Path) -> Row:
    """Time a change of limits as the server answers it, against drawing alone."""
    raster = sp.open_raster(big_file(folder, overviews=True))
    session = Session.of([sp.Layer(raster, sp.Look(channels=(3, 2, 1)))])
    session.resize(764, 960)
    session.change({"do": "whole"})
    viewed = RasterView(session)
    live = Live(viewed)
    number = iter(range(1, 1000))

    def ours() -> None:
        high = 2000 + next(number)
        live.frame({"n": str(high), "actions": json.dumps(
            [{"do": "look", "limits": f"fixed:0,{high}"}])})  # fmt: skip

    frame = viewed.drawer.frame(session)
    planned: Any = frame.planned[0]
    assert isinstance(planned, PlannedLayer)
    pixels = viewed.drawer.pixels(planned, frame.grid)
    return contest("live view, a change of limits as the server answers it", ours,
                   lambda: planned.plan.draw(pixels), 5, "drawing alone", 15)  # fmt: skip


@contextlib.contextmanager
def _seen(browser: Any, *arguments: str) -> Iterator[tuple[Any, int, float]]:
    """Open a live view in a page of 1280 x 800; yield it, the server's process, and how long the
    first picture took from the command on.
    """
    script = str(Path(sys.executable).with_name("spectrane"))
    start = time.perf_counter()
    served = subprocess.Popen([script, "view", *arguments, "--no-browser"],
                              stdout=subprocess.PIPE, text=True)  # fmt: skip
    assert served.stdout is not None
    url = served.stdout.readline().strip()
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    page.goto(url)
    page.wait_for_selector("body[data-painted]")
    taken = time.perf_counter() - start
    page.wait_for_timeout(1500)
    try:
        yield page, served.pid, taken
    finally:
        page.close()
        served.terminate()
        served.wait()


def _median(page: Any, gesture: Callable[[int], dict[str, Any]]) -> float:
    """Return the median seconds from a gesture to its picture."""
    times = []
    for number in range(TIMES):
        times.append(page.evaluate(_GESTURE, gesture(number)))
        page.wait_for_timeout(120)
    return statistics.median(times) / 1000


def _row(work: str, seconds: float, limit: float) -> Row:
    return Row(f"live view, {work}", seconds / limit, seconds / limit, 1.0, seconds, f"{limit:g} s")


def _of_rasters(browser: Any, path: str) -> Iterator[Row]:
    look = ["--channels", "3,2,1", "--limits", "percentile:2,98"]
    with _seen(browser, path, *look) as (page, _, taken):
        yield _row("the first picture after the command, 20 000 x 20 000 x 4", taken, 1.5)
        ways: dict[str, Callable[[int], dict[str, Any]]] = {
            "limits": lambda k: {"slide": "high red", "share": 0.3 + k % 20 / 40},
            "a curve": lambda k: {"choose": "Curve", "index": k % 7},
            "a channel": lambda k: {"choose": "red channel", "index": k % 4},
            "saturation": lambda k: {"slide": "saturation", "share": 0.2 + k % 20 / 40},
        }
        for name, gesture in ways.items():
            seconds = _median(page, gesture)
            limit = 0.1 if name == "saturation" else 0.05
            yield _row(f"{name} of three uint16 bands, gesture to painted", seconds, limit)
        zoom = _median(page, lambda k: {"wheel": -240 if k % 20 < 10 else 240})
        yield _row("zoom in 20 000 x 20 000 x 4 with overviews", zoom, 0.15)
        pan = _median(page, lambda k: {"key": "ArrowLeft" if k % 10 < 5 else "ArrowDown"})
        yield _row("pan in 20 000 x 20 000 x 4 with overviews", pan, 0.15)
    layers = [f"{path},opacity=0.{k}" for k in (9, 7, 6, 5, 4)]
    with _seen(browser, *layers, *look) as (page, _, _taken):
        name = Path(path).name
        opacity = _median(page, lambda k: {"slide": f"opacity {name}", "share": 0.2 + k % 20 / 40})
        yield _row("opacity of five layers", opacity, 0.08)
    with _seen(browser, path, path, path, *look) as (page, process, _taken):
        _median(page, lambda k: {"wheel": -240 if k % 20 < 10 else 240})
        status = Path(f"/proc/{process}/status").read_text()
        peak = next(int(line.split()[1]) for line in status.splitlines() if "VmHWM" in line)
        yield Row("live view, peak memory with three such files", peak / 1024 / 400,
                  peak / 1024 / 400, 1.0, 0.0, "400 MB")  # fmt: skip


def _of_volumes(browser: Any, path: str) -> Iterator[Row]:
    with _seen(browser, path) as (page, _, _taken):
        step = _median(page, lambda k: {"wheel": 100 if k % 40 < 20 else -100})
        yield _row("a slice of 512 x 512 x 600 int16 by the wheel", step, 0.06)
