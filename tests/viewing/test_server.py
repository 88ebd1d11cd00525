"""The live view's server: who is let in, what is answered, what may be written."""

from __future__ import annotations

import json
import signal
import socket
import struct
import subprocess
import sys

import numpy as np
import pytest
import urllib3
from starlette.testclient import TestClient

import spectrane as sp
from spectrane.engine.watching import told_walk
from spectrane.formats.tiff.decoding import BlockDecoder
from spectrane.model.errors import AccessError
from spectrane.viewing.rasters import RasterView
from spectrane.viewing.running import Running
from spectrane.viewing.server import COOKIE, HEADER, Live, served_page
from spectrane.viewing.session import Session
from spectrane.viewing.state import Opened

HOST = "http://127.0.0.1:8000"
NASTY = "<img src=x onerror=alert(1)>\x1b[31m"


@pytest.fixture
def live(tmp_path, utm, rng):
    path = tmp_path / "sea.tif"
    values = rng.integers(1, 4000, (2, 70, 90)).astype("u2")
    values[0, 3, 4] = 0
    bands = [sp.Band("red", unit="m", scale=0.5, nodata=0), sp.Band(NASTY, nodata=0)]
    sp.from_array(values, grid=utm, bands=bands).save(path)
    raster = sp.open_raster(path).select([1, 2])
    session = Session.of([raster], [Opened(None, str(path))])
    session.resize(70, 90)
    session.change({"do": "whole"})
    return Live(RasterView(session, str(tmp_path / "out")), str(tmp_path / "out"))


@pytest.fixture
def client(live):
    return TestClient(served_page(live), base_url=HOST, headers={HEADER: live.token})


def do(client, **action):
    return client.get("/do", params={"action": json.dumps(action)})


def test_the_token_opens_the_door(live):
    bare = TestClient(served_page(live), base_url=HOST)
    for way in ("/", "/state", "/frame", "/page.js", "/?token=wrong"):
        assert bare.get(way).status_code == 403
    entered = bare.get(f"/?token={live.token}", follow_redirects=False)
    assert (entered.status_code, entered.headers["location"]) == (303, "/")
    assert "HttpOnly" in entered.headers["set-cookie"]
    assert "samesite=strict" in entered.headers["set-cookie"].lower()
    assert bare.get("/").status_code == 200
    assert COOKIE in bare.cookies
    assert bare.get("/state").json()["layers"]


@pytest.mark.parametrize(
    "headers",
    [{"Host": "evil.example"}, {"Host": "127.0.0.1:9"}, {"Origin": "http://evil.example"},
     {"Origin": "null"}, {HEADER: "wrong"}, {"Host": "127.0.0.1.evil.example:8000"}],
)  # fmt: skip
def test_others_are_kept_out(client, headers):
    assert client.get("/state", headers=headers).status_code == 403
    assert client.post("/end", json={}, headers=headers).status_code == 403


def test_the_page_allows_itself_alone(client):
    answer = client.get("/")
    policy = answer.headers["content-security-policy"]
    assert "default-src 'none'" in policy
    assert "script-src 'self'" in policy
    assert answer.headers["x-content-type-options"] == "nosniff"
    for name in ("page.js", "panes.js", "talk.js", "page.css"):
        assert client.get(f"/{name}").status_code == 200
    for name in ("server.py", "..%2fserver.py", "sea.tif", "page.html.bak", "%2e%2e"):
        assert client.get(f"/{name}").status_code == 404


class Page:
    """What a page does: it asks, and puts what comes together with the pictures it has."""

    def __init__(self, client):
        self.client, self.have, self.pictures = client, 0, []

    def ask(self, number, *actions, **more):
        query = {"n": number, "have": self.have, "actions": json.dumps(actions), **more}
        body = self.client.get("/frame", params=query).content
        length = struct.unpack("<I", body[:4])[0]
        told, rest = json.loads(body[4 : 4 + length]), body[4 + length :]
        self.have, had, self.pictures = told["picture"], self.pictures, []
        for place, panel in enumerate(told["panels"]):
            size, planes = panel["rows"] * panel["columns"], panel["planes"]
            shape = (panel["rows"], panel["columns"], 4)
            if planes is None:
                self.pictures.append(np.frombuffer(rest[: 4 * size], np.uint8).reshape(shape))
                rest = rest[4 * size :]
                continue
            picture = np.full(shape, 255, np.uint8) if panel["afresh"] else had[place].copy()
            for channels in planes:
                plane = np.frombuffer(rest[:size], np.uint8).reshape(shape[:2])
                picture[..., channels], rest = plane[..., None], rest[size:]
            self.pictures.append(picture)
        assert not rest
        return told


def test_a_frame_is_what_render_gives(client, live):
    page = Page(client)
    panel = page.ask(4)["panels"][0]
    shown = sp.render(live.viewed.session.layers(), view=live.viewed.session.view())
    np.testing.assert_array_equal(page.pictures[0], shown.rgba)
    assert panel["layers"][0][0]["low"] == shown.scales[0].low
    assert client.get("/frame", params={"n": 3}).status_code == 204  # a newer one was asked for


def test_of_a_picture_the_planes_that_changed_are_sent(client, live):
    page, grey = Page(client), [[0, 1, 2], [3]]
    limits = ["fixed:9,1999", "fixed:9,3999", "fixed:9,1999"]
    look = {"do": "look", "channels": [1, 2, 1], "limits": limits}
    red = {**look, "limits": ["fixed:500,1999", *limits[1:]]}
    both = {"do": "look", "invert": True}
    steps = [
        ([{"do": "panels", "count": 2}], [grey, grey]),
        ([look], [None, []]),  # the second panel is as it was
        ([red], [[[0]], []]),
        ([], [[], []]),
        ([both], [None, []]),
        ([{"do": "size", "rows": 60, "columns": 90}], [None, grey[:1]]),  # nothing hidden
    ]
    for number, (actions, planes) in enumerate(steps, 1):
        told = page.ask(number, *actions)
        assert not told["problems"]
        assert [one["planes"] for one in told["panels"]] == planes, actions
        for place, picture in enumerate(page.pictures):
            expected = sp.render(live.viewed.session.layers(place), view=live.viewed.session.view())
            np.testing.assert_array_equal(picture, expected.rgba)


def test_of_two_pages_each_is_told_what_it_has_not(client):
    page, other = Page(client), Page(client)
    page.ask(1)
    other.ask(1, {"do": "look", "invert": True})  # of the same number, and another picture
    page.ask(2)
    np.testing.assert_array_equal(page.pictures[0], other.pictures[0])


def test_a_pan_decodes_what_is_new_alone(tmp_path, monkeypatch):
    path = tmp_path / "sea.tif"
    sp.from_array(np.ones((3, 2048, 1280), "u2")).save(path, tile=256, overviews=False)
    session = Session.of([sp.open_raster(path)])
    session.resize(100, 160)
    session.change({"do": "whole"})
    decoded, decode = [], BlockDecoder.decode
    monkeypatch.setattr(BlockDecoder, "decode", lambda *a: (decoded.append(1), decode(*a))[1])
    page = Page(TestClient(served_page(live := Live(RasterView(session))), base_url=HOST,
                           headers={HEADER: live.token}))  # fmt: skip
    for number in (1, 2, 3):
        assert not page.ask(number, {"do": "pan", "columns": 1, "rows": -1})["problems"]
        decoded.append("|")
    assert decoded == [1] * 40 + ["|"] * 3  # 15.7 MB


def test_before_is_as_it_came(client, live):
    first, second, third = Page(client), Page(client), Page(client)
    first.ask(1)
    do(client, do="look", invert=True)
    second.ask(2)
    third.ask(3, before="yes")
    assert (second.pictures[0] != first.pictures[0]).any()
    np.testing.assert_array_equal(third.pictures[0], first.pictures[0])


def test_values_of_every_band(client, live):
    there = client.get("/values", params={"column": 10.5, "row": 20.5}).json()
    assert (there["row"], there["column"]) == (20, 10)
    stored = (
        live.viewed.session.opened[0]
        .source.read([0, 1], ((20, 21), (10, 11)))
        .values.ravel()
        .tolist()
    )
    assert [one["stored"] for one in there["rows"]] == stored
    assert there["rows"][0]["physical"] == stored[0] / 2
    assert there["lon"] == pytest.approx(-21.195, abs=0.01)
    hole = client.get("/values", params={"column": 4.5, "row": 3.5}).json()["rows"][0]
    assert hole["why"] == "no-data"
    assert client.get("/values", params={"column": -50, "row": 3}).json()["rows"] == []


def test_counts_are_those_in_view(client, live):
    do(client, do="look", channels=["red"], limits="fixed:100,1500")
    found = client.get("/counts").json()["channels"][0]
    values = live.viewed.session.opened[0].source.read([0], ((0, 70), (0, 90))).values.ravel() / 2
    values = values[values > 0]
    assert sum(found["counts"]) == pytest.approx(values.size, rel=0.003)
    assert found["below"] == pytest.approx((values < 100).mean())
    assert found["above"] == pytest.approx((values > 1500).mean())


def test_where_nothing_of_the_raster_is_in_view_all_is_answered(client, live):
    page = Page(client)
    page.ask(1, {"do": "mark", "column": 50, "row": 60}, {"do": "pan", "columns": 5000, "rows": 0})
    assert (page.pictures[0] == 0).all()
    asked = {"column": 3, "row": 4, "text": "red > 3"}
    told = {name: client.get(f"/{name}", params=asked) for name in live.viewed.answers}
    assert {name: one.status_code for name, one in told.items()} == dict.fromkeys(told, 200)
    channel = told["counts"].json()["channels"][0]  # with limits to be set all the same
    assert (sum(channel["counts"]), channel["high"] > channel["low"]) == (0, True)


def test_where_no_value_is_valid_there_are_no_limits(utm):
    session = Session.of([sp.from_array(np.full((70, 90), np.nan, "f4"), grid=utm)])
    session.resize(9, 9)
    (channel,) = Live(RasterView(session)).ask("counts", {})["channels"]
    assert (channel["low"], channel["start"], channel["stop"]) == (None, -0.05, 1.05)
    assert sum(channel["counts"]) == 0


def test_numbers_stand_in_large_pixels(client, live):
    assert client.get("/numbers").json()["numbers"] == []  # 6300 are too many to read
    do(client, do="zoom", factor=20)
    numbers = client.get("/numbers").json()["numbers"]
    assert 12 <= len(numbers) <= 60
    x, y, value = numbers[len(numbers) // 2]
    there = client.get("/values", params={"column": x, "row": y}).json()["rows"][0]
    assert there["stored"] == value


def test_marks_are_told_band_by_band(client, live):
    assert client.get("/spectra").json()["marks"] == []
    do(client, do="mark", column=10.5, row=20.5)
    do(client, do="mark", column=4.5, row=3.5)
    told = client.get("/spectra").json()
    pixels = live.viewed.session.opened[0].source.read([0, 1], ((20, 21), (10, 11))).values.ravel()
    assert told["marks"][0] == [pixels[0] / 2, pixels[1]]
    assert told["marks"][1][0] is None
    assert told["wavelengths"] == [None, None]
    do(client, do="mark")
    assert client.get("/spectra").json()["marks"] == []


def test_changes_go_together_with_the_picture(client, live):
    wrong = {"do": "look", "limits": "x"}
    actions = [{"do": "zoom", "factor": 2}, wrong, {"do": "look", "invert": True}]
    body = client.get("/frame", params={"n": 1, "actions": json.dumps(actions)}).content
    told = json.loads(body[4 : 4 + struct.unpack("<I", body[:4])[0]])
    assert live.viewed.session.state.pixel == pytest.approx(5)
    assert live.viewed.session.state.layers[0].look.invert
    assert len(told["problems"]) == 1
    assert told["state"]["pixel"] == pytest.approx(5)
    live.newest = 9
    later = json.dumps([{"do": "zoom", "factor": 2}])
    assert client.get("/frame", params={"n": 2, "actions": later}).status_code == 204
    assert live.viewed.session.state.pixel == pytest.approx(
        2.5
    )  # no picture, but the change is made


def test_errors_are_told_and_the_session_lives_on(client):
    for action in ({"do": "look", "limits": "x"}, {"do": "goto", "text": "?"}, []):
        answer = client.get("/do", params={"action": json.dumps(action)})
        assert answer.status_code == 400
        assert answer.json()["error"]
    assert client.get("/do", params={"action": "{"}).status_code == 400
    assert client.get("/values").status_code == 400
    assert do(client, do="zoom", factor=2).status_code == 200


def test_texts_of_files_are_texts(client):
    names = [band["name"] for band in client.get("/state").json()["layers"][0]["bands"]]
    assert names[1].startswith("<img src=x")  # a text, which the page sets as text
    assert "\x1b" not in names[1]


def test_only_posts_write(client, live, tmp_path):
    for way in ("save", "keep", "end"):
        assert client.get(f"/{way}").status_code == 404
    assert client.post("/do", json={}).status_code == 405
    saved = [client.post("/save", json={"what": what}).json()["saved"]
             for what in ("picture", "picture", "look", "python")]  # fmt: skip
    assert saved == ["view.png", "view-2.png", "view.look.toml", "view.py"]
    assert client.post("/save", json={"what": "disk"}).status_code == 400
    live.save_to = None
    assert "--save-to" in client.post("/save", json={"what": "picture"}).json()["error"]


def test_keeping_a_look_asks_first(client, live, tmp_path):
    do(client, do="look", channels=["red"], limits="fixed:5,50")
    said = client.get("/changes").json()["text"]
    assert "sea.tif.spectrane.toml" in said
    assert "fixed:5,50" in said
    assert client.post("/keep", json={}).status_code == 400
    assert not (tmp_path / "sea.tif.spectrane.toml").exists()
    assert client.post("/keep", json={"agreed": True}).json()["saved"] == "sea.tif.spectrane.toml"
    with sp.open_raster(tmp_path / "sea.tif") as again:
        assert str(again.look.limits[0]) == "fixed:5,50"


def test_nothing_is_kept_with_what_lies_elsewhere(scene):
    session = Session.of([scene], [Opened(None, "s3://maps/a.tif")])
    viewed = RasterView(session, None)
    for act in (viewed.kept_text, viewed.keep):
        with pytest.raises(sp.LookError, match=r"^s3://maps/a\.tif: lies elsewhere, .* the look"):
            act()


@pytest.mark.parametrize("way", ["Ctrl-C", "End"])
def test_the_command_ends_as_it_should(live, way):
    path = live.viewed.session.opened[0].file
    running = subprocess.Popen(
        [sys.executable, "-m", "spectrane", "view", path, "--no-browser", "--limits", "fixed:0,9"],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    url = running.stdout.readline().strip()
    place, _, token = url.partition("/?token=")
    pool = urllib3.PoolManager()
    state = pool.request("GET", f"{place}/state", headers={HEADER: token}).json()
    assert state["layers"][0]["look"]["limits"] == "fixed:0,9"
    if way == "End":
        pool.request("POST", f"{place}/end", body=b"{}", headers={HEADER: token})
    else:
        running.send_signal(signal.SIGINT)
    pool.clear()
    _, errors = running.communicate(timeout=20)
    assert (running.returncode, errors) == (0, "")


def test_the_view_is_open_until_it_is_closed(utm):
    raster = sp.from_array(np.ones((70, 90), "u1"), grid=utm)
    view = sp.view([raster], port=0)
    try:
        assert view.look == sp.Look()
        view.look_at((480100, 7359400, 480300, 7359500))
        x_min, _, x_max, _ = view.area
        assert (x_min, x_max) == pytest.approx((480100, 480300))
        assert "<iframe" in view._repr_html_()
        # Else each small answer waits 40 ms for the acknowledgement of its head.
        assert view._running._socket.proto == socket.IPPROTO_TCP
        with pytest.raises(AccessError, match="port"):
            Running(lambda: None, view._running.port)
        url = view.url.replace("/?token=", "/end?token=")
        pool = urllib3.PoolManager()
        assert pool.request("POST", url, body=b"{}").status == 403
        headers = {HEADER: view._live.token}
        assert (
            pool.request("POST", url.partition("?")[0], body=b"{}", headers=headers).status == 200
        )
        pool.clear()
        view.wait()
    finally:
        view.close()


def test_long_work_tells_its_share_and_can_be_stopped(client, live, monkeypatch):
    shares = []
    draw = live.viewed.draw

    def slowly(before):
        blocks = [(((k, k + 1), (0, 4)), k) for k in range(4)]
        for _, k in told_walk(iter(blocks), ((0, 4), (0, 4))):
            shares.append(client.get("/progress").json()["share"])
            if k == 2:
                assert client.get("/stop").json() == {"stopping": True}
        return draw(before)

    monkeypatch.setattr(live.viewed, "draw", slowly)
    answer = client.get("/frame", params={"n": 1})
    assert answer.status_code == 400
    assert "stopped" in answer.json()["error"]
    assert shares == [0.25, 0.5, 0.75]
    monkeypatch.undo()
    assert client.get("/frame", params={"n": 2}).status_code == 200  # the session lives on
    assert client.get("/progress").json() == {"share": None}
