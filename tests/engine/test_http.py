"""Files of web servers: those that answer ranges well, and those that do not."""

from __future__ import annotations

import http.server
import pickle
import re
import threading
import time

import numpy as np
import pytest

import spectrane as sp


class Server(http.server.BaseHTTPRequestHandler):
    """Answers GET with byte ranges of one version of a file, or misbehaves in one way."""

    protocol_version = "HTTP/1.1"

    def do_GET(self):
        server = self.server
        server.asked.append((self.path, dict(self.headers)))
        if not self.path.startswith("/scene"):
            self.send_error(404)
            return
        number = sum(path.startswith("/scene.tif") and "spectrane" not in path
                     for path, _ in server.asked)  # fmt: skip
        if "spectrane.toml" in self.path:
            self.send_error(server.sidecar)
            return
        getattr(self, f"_{server.way}", self._well)(number)

    def _well(self, number, data=None, tag='"one"', cut=0, short=None):
        data = self.server.data if data is None else data
        asked = re.fullmatch(r"bytes=(\d+)-(\d+)", self.headers.get("Range", ""))
        if_range = self.headers.get("If-Range")
        ranges = asked and self.server.way != "without_ranges" and if_range in (None, tag)
        start, stop = (
            (int(asked[1]), min(len(data), int(asked[2]) + 1)) if ranges else (0, len(data))
        )
        part = data[start:stop]
        self.send_response(206 if ranges else 200)
        if tag:
            self.send_header("ETag", tag)
        self.send_header("Content-Length", str(len(part)))
        if ranges:
            self.send_header("Content-Range", f"bytes {start}-{stop - 1}/{len(data)}")
        self.end_headers()
        part = part[: len(part) - cut]
        self.server.sent.append(len(part))
        self.wfile.write(part)
        if cut:
            self.close_connection = True

    def _changed(self, number):
        new = number > 1
        self._well(number, self.server.other if new else None, tag='"two"' if new else '"one"')

    def _changed_without_a_tag(self, number):
        self._well(number, self.server.other + b"more" if number > 1 else None, tag="")

    def _ignoring_if_range(self, number):
        self.headers.replace_header("If-Range", '"two"') if "If-Range" in self.headers else None
        self._well(number, self.server.other if number > 1 else None,
                   tag='"two"' if number > 1 else '"one"')  # fmt: skip

    def _cut_once(self, number):
        self._well(number, cut=1000 if number == 2 else 0)

    def _cut_always(self, number):
        self._well(number, cut=1000 if number > 1 else 0)

    def _stalled(self, number):
        if number > 1:
            self.server.stop.wait(20)
            self.close_connection = True
            return
        self._well(number)

    def _stalled_in_the_body(self, number):
        if number == 1:
            self._well(number)
            return
        first, last = re.findall(r"\d+", self.headers["Range"])
        self.send_response(206)
        self.send_header("Content-Range", f"bytes {first}-{last}/{len(self.server.data)}")
        self.send_header("Content-Length", str(int(last) - int(first) + 1))
        self.end_headers()
        self.wfile.write(b"x")
        self.wfile.flush()
        self.server.stop.wait(20)
        self.close_connection = True

    def _failing(self, number):
        self.send_error(500)

    def _failing_once(self, number):
        self.send_error(503) if number == 2 else self._well(number)

    def _round_and_round(self, number):
        self.send_response(302)
        self.send_header("Location", f"/scene.tif?{number}")
        self.send_header("Content-Length", "0")
        self.end_headers()

    def _closed(self, number):
        self.send_error(403)

    def log_message(self, *args):
        pass


@pytest.fixture
def served(tmp_path, rng, monkeypatch):
    """A server of a file; its ``way`` is how it answers."""
    monkeypatch.setenv("SPECTRANE_TIMEOUT", "20")
    monkeypatch.setattr("spectrane.engine.http_files._PAUSE", 0.01)
    arrays = [rng.integers(0, 65536, (1, 400, 500)).astype("u2") for _ in range(2)]
    for name, array in zip(("a", "b"), arrays, strict=True):
        sp.from_array(array).save(tmp_path / f"{name}.tif", compress="none", overviews=False)
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Server)
    server.data, server.other = ((tmp_path / f"{n}.tif").read_bytes() for n in ("a", "b"))
    server.array, server.way, server.sidecar = arrays[0], "well", 404
    server.asked, server.sent, server.stop = [], [], threading.Event()
    server.daemon_threads, server.block_on_close = True, False
    thread = threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True)
    thread.start()
    server.url = f"http://127.0.0.1:{server.server_port}/scene.tif"
    yield server
    server.stop.set()
    server.shutdown()
    server.server_close()
    thread.join()


def test_a_window_over_http_asks_for_its_bytes_only(served):
    raster = sp.open_raster(served.url)
    assert served.sent == [128 << 10]  # one range tells the format and holds all the headers
    served.sent.clear()
    part = raster.pixels(rows=(300, 320), columns=(10, 100))
    np.testing.assert_array_equal(part, served.array[:, 300:320, 10:100])
    assert sum(served.sent) < len(served.data) / 2
    assert all(said["If-Range"] == '"one"' for path, said in served.asked[2:])
    again = pickle.loads(pickle.dumps(raster))
    np.testing.assert_array_equal(again.pixels(), served.array)


@pytest.mark.parametrize(
    ("way", "kind", "match"),
    [
        ("changed", sp.ChangedFile, "changed after it was opened"),
        ("changed_without_a_tag", sp.ChangedFile, "changed after it was opened"),
        ("ignoring_if_range", sp.ChangedFile, "changed after it was opened"),
        ("cut_always", sp.AccessError, "cut short"),
        ("stalled", sp.AccessError, r"said nothing for 0.4 seconds \(SPECTRANE_TIMEOUT"),
        ("stalled_in_the_body", sp.AccessError, "said nothing for 0.4 seconds"),
        ("failing", sp.AccessError, "answered 500"),
        ("round_and_round", sp.AccessError, "redirects round and round"),
        ("closed", sp.AccessError, "answered 403.*password"),
    ],
)
def test_a_server_that_misbehaves_is_told(served, monkeypatch, way, kind, match):
    if "stalled" in way:
        monkeypatch.setenv("SPECTRANE_TIMEOUT", "0.4")
    served.way, began = way, time.monotonic()
    with pytest.raises(kind, match=match) as caught:
        sp.open_raster(served.url).pixels()
    assert not isinstance(caught.value, sp.MissingFile)
    assert served.url in str(caught.value)
    assert time.monotonic() - began < 15


@pytest.mark.parametrize("way", ["cut_once", "failing_once", "without_ranges"])
def test_what_helps_is_tried(served, way):
    served.way = way
    np.testing.assert_array_equal(sp.open_raster(served.url).pixels(), served.array)


@pytest.mark.parametrize(("status", "works"), [(404, True), (403, True), (410, True), (500, False)])
def test_a_sidecar_that_is_not_there_hinders_nothing(served, status, works):
    served.sidecar = status
    if works:
        assert sp.open_raster(served.url).shape == (1, 400, 500)
    else:
        with pytest.raises(sp.AccessError, match="answered 500"):
            sp.open_raster(served.url)


def test_what_is_not_there_and_nobody_who_answers(served):
    with pytest.raises(sp.MissingFile, match=r"nothing\.tif: no such file"):
        sp.open(served.url.replace("scene", "nothing"))
    with pytest.raises(sp.AccessError, match="cannot be reached"):
        sp.open("http://127.0.0.1:9/scene.tif")


def test_hdf5_over_http_is_read_by_ranges(served, tmp_path):
    sp.from_array(np.arange(90.0).reshape(9, 10)).save(tmp_path / "a.nc")
    served.data = (tmp_path / "a.nc").read_bytes()
    np.testing.assert_array_equal(
        sp.open_raster(served.url).pixels()[0], np.arange(90.0).reshape(9, 10)
    )


def test_what_a_server_is_asked_along_is_no_part_of_a_name(served):
    raster = sp.open_raster(f"{served.url}?signed=x/y.csv")
    np.testing.assert_array_equal(raster.pixels(), served.array)
    assert "/scene.tif.spectrane.toml?signed=x/y.csv" in [path for path, _ in served.asked]
    assert (raster.title, repr(raster)[:18]) == ("scene.tif", "<Raster scene.tif:")


def test_a_small_file_needs_no_ranges(served, tmp_path):
    served.way = "without_ranges"
    small = sp.from_array(served.array[:, :40, :50])
    small.save(tmp_path / "small.tif")
    served.data = (tmp_path / "small.tif").read_bytes()
    raster = sp.open_raster(served.url)
    for one in (raster, pickle.loads(pickle.dumps(raster))):
        np.testing.assert_array_equal(one.pixels(), small.pixels())
    np.testing.assert_array_equal(sp.render(raster).rgba, sp.render(small).rgba)


def test_pages_are_no_files_and_servers_list_no_folders(served):
    served.data = b"\n<!DOCTYPE HTML><html><body>Index of scenes</body></html>"
    with pytest.raises(sp.FormatError, match="is a page to be read in a browser"):
        sp.open(served.url)
    with pytest.raises(sp.FormatError, match="web servers list none"):
        sp.survey(served.url)
