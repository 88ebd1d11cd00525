"""Make the pictures of docs/screenshots from the demo data: ``make screenshots``."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import textwrap
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

HERE = Path(__file__).resolve().parent / "screenshots"
SPECTRANE = str(Path(sys.executable).with_name("spectrane"))
SIZE = (1280, 800)
_LINE = 20
_BACK, _TEXT, _PROMPT = "#16202b", "#dbe4ec", "#7fc8a9"


def main() -> None:
    """Draw the demo, copy its pictures, and take pictures of commands in a terminal."""
    HERE.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as temporary:
        os.chdir(temporary)
        run("demo", "demo")
        shutil.copy("demo/natural.png", HERE / "render_natural.png")
        run("render", "--colormap", "list", "-o", str(HERE / "colormaps.png"), "--overwrite")
        scene = "demo/sound_8band.tif"
        terminal("describe.png", [(f"describe {scene}", run("describe", scene))])
        terminal("survey.png", talks("survey demo"))
        pan = "raw demo/sound_pan.bin --rows 1500 --columns 550"
        _, guess = talks(pan, f"{pan} --guess --preview guess.png")
        terminal("raw_guess.png", [guess], picture="guess.png")
        keep = f"amend {scene} --nodata 0 --channels natural --limits percentile:2,98"
        terminal("amend.png", [
            *talks(keep),
            ("", Path(f"{scene}.spectrane.toml").read_text()),
            *talks(f"render {scene} -o right.png", f"amend {scene} --undo"),
        ], picture="right.png")  # fmt: skip

        figures(scene)
        together(scene)
        volumes()
        ends(scene)
        view(scene)


def ends(scene: str) -> None:
    """Keep the footprints of found scenes, and a finished sheet."""
    bed = "demo/eelgrass.geojson"
    run(*f"scenes demo/acquisitions --over {scene} --cloud 30 -o {HERE / 'footprints.png'} "
        "--overwrite".split())  # fmt: skip
    given = f"sheet {scene} -o {HERE / 'sheet.png'} --nodata 0 --channels natural --overwrite"
    words = ["--title", "Halse Sound", "--subtitle", "natural colours", "--notes",
             "Leases as granted in 2025; the bed was mapped by divers."]  # fmt: skip
    run(*given.split(), "--limits", "percentile:2,98", "--outline", bed, "--outline",
        "demo/lease.geojson", "--label", "name", "--dots", "110", *words)  # fmt: skip


def together(scene: str) -> None:
    """Keep what the commands that bring rasters together answer and draw."""
    place = ("place demo/barrage_plan.png -o plan.tif --points demo/barrage_points.csv "
             "--crs EPSG:32727")  # fmt: skip
    clip = f"clip {scene} -o bed.tif --shape demo/eelgrass.geojson --soft 3 --nodata 0"
    draw = "render bed.tif -o bed.png --channels natural --limits percentile:2,98"
    terminal("place_clip.png", talks(place, clip, draw), picture="bed.png")
    joined = ("mosaic demo/sound_north.tif demo/sound_south.tif -o joined.tif --nodata 0 "
              "--nodata-when all --trim 1 --align shift --balance gain --rule seam")  # fmt: skip
    terminal("mosaic.png", talks(joined, "render joined.tif -o joined.png"), picture="joined.png")
    stretched = "--channels natural --limits percentile:2,98 --nodata 0"
    laid = talks("overlay --layers demo/sound.layers.toml -o map.png",
                 f"tiles {scene} -o tiles {stretched}")  # fmt: skip
    terminal("overlay.png", laid, picture="map.png")
    page(Path("demo/sound.html").resolve())


def volumes() -> None:
    """Keep three planes of the study with its map, and what the command answers."""
    given = ("slices demo/fetlock_ct --limits window:bone --map demo/fetlock_effect.nii.gz "
             "--measure change --threshold abs(t)>=5 --least 50mm3 --faded 0.3 --at 12,0,9 "
             "--labels demo/fetlock_outlines.dcm")  # fmt: skip
    terminal("slices.png", talks(f"{given} -o planes.png"), picture="planes.png")


def page(path: Path) -> None:
    """Take a picture of the page in a browser, with what is under the pointer."""
    from playwright.sync_api import sync_playwright

    found = shutil.which("chromium") or shutil.which("chromium-browser")
    flags = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=found, args=flags)
        shown = browser.new_page(viewport={"width": SIZE[0], "height": SIZE[1]})
        shown.goto(path.as_uri())
        shown.wait_for_selector("body[data-ready=yes]")
        shown.mouse.move(465, 400)
        shown.screenshot(path=HERE / "page.png")
        browser.close()


def view(scene: str) -> None:
    """Take pictures of the live view: a scene, two linked panels, and a volume with a map."""
    from playwright.sync_api import sync_playwright

    import spectrane as sp

    found = shutil.which("chromium") or shutil.which("chromium-browser")
    flags = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]
    look = sp.Look(channels="natural", limits="percentile:2,98")
    raster = sp.open_raster(scene).with_nodata(0)
    layers = [(raster, look), sp.Outline("demo/lease.geojson")]
    thermal = sp.Layer(sp.open_raster("demo/sound_thermal.tif"), sp.Look(colormap="auto"))
    bone = sp.VolumeLayer(sp.open_volume("demo/fetlock.nii.gz"), sp.Look(limits="window:bone"))
    effect = sp.VolumeLayer(sp.open_volume("demo/fetlock_effect.nii.gz"), sp.Look(
        colormap="ebbflow", limits="symmetric:99"), threshold="abs(t) >= 5")  # fmt: skip
    two = ["two panels", ("panel 1 shows", 1), ("panel 2 shows", 2)]
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=found, args=flags)
        for name, shown, steps in (("view", layers, []), ("view_panels", [(raster, look), thermal],
                                   two), ("view_volume", [bone, effect], ["group 1"])):  # fmt: skip
            with sp.view(shown) as opened:
                page = browser.new_page(viewport={"width": SIZE[0], "height": SIZE[1]})
                page.goto(opened.url)
                page.wait_for_selector("body[data-ready=yes][data-painted]")
                page.wait_for_timeout(800)
                for step in steps:
                    if isinstance(step, str):
                        page.get_by_role("button", name=step, exact=True).click()
                    else:
                        page.get_by_role("combobox", name=step[0]).select_option(index=step[1])
                    page.wait_for_timeout(600)
                page.evaluate("document.getElementById('side').scrollTop = 0")
                page.mouse.move(330, 400)
                page.mouse.wheel(0, -300 if name == "view_panels" else 0)
                page.mouse.move(345, 420)
                page.wait_for_timeout(1200)
                page.screenshot(path=HERE / f"{name}.png")
                page.close()
        browser.close()


def figures(scene: str) -> None:
    """Keep the figures of the commands that draw one, and what probe answers."""
    stretched = "--nodata 0 --limits percentile:2,98"
    thermal = "demo/sound_thermal.tif"
    run(*f"histogram {scene} {stretched} --curve gamma:1.3 -o histogram.png".split())
    run(*f"compare {scene} {thermal} demo/sound_depth.tif --colormap auto {stretched} "
        "--area 488000,7353000,497000,7360000 --bar right --size 1280x800 "
        "-o compare.png".split())  # fmt: skip
    for name in ("histogram", "compare"):
        shutil.copy(f"{name}.png", HERE / f"{name}.png")
    terminal("probe.png", talks(f"probe {scene} {thermal} --nodata 0 --at 490000,7357000"))


def talks(*commands: str) -> list[tuple[str, str]]:
    """Return each command with what it answers."""
    return [(command, run(*command.split())) for command in commands]


def run(*arguments: str) -> str:
    """Return what a command prints, errors included."""
    done = subprocess.run(
        [SPECTRANE, *arguments], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        check=False,
    )  # fmt: skip
    return done.stdout


def terminal(name: str, said: list[tuple[str, str]], picture: str | None = None) -> None:
    """Draw commands and their answers as a terminal of 1280 x 800 shows them.

    ``picture`` is what they drew; it is put below.
    """
    font = ImageFont.truetype("DejaVuSansMono.ttf", 15)
    screen = Image.new("RGB", SIZE, _BACK)
    draw = ImageDraw.Draw(screen)
    columns, y = int((SIZE[0] - 40) / font.getlength("m")), 16
    for command, answer in said:
        typed = textwrap.wrap(f"$ spectrane {command}", columns - 2) if command else []
        for number, part in enumerate(typed):
            draw.text((20, y), part if not number else f"    {part}", _PROMPT, font)
            y += _LINE
        for line in answer.rstrip("\n").split("\n"):
            for part in textwrap.wrap(line, columns, drop_whitespace=False) or [""]:
                draw.text((20, y), part, _TEXT, font)
                y += _LINE
        y += _LINE
    if picture is not None:
        drawn = Image.open(picture).convert("RGBA")
        drawn.thumbnail((SIZE[0] - 40, SIZE[1] - y - 10))
        screen.paste(drawn, (20, y), drawn)
        y += drawn.size[1] + 10
    screen.crop((0, 0, SIZE[0], min(SIZE[1], y))).save(HERE / name, optimize=True)


if __name__ == "__main__":
    main()
