"""Our colour maps: lightness, even steps, colour-vision deficiencies; and anybody's."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane as sp
from spectrane.kernels.oklab import from_oklab, linear_light, to_oklab
from spectrane.model.colormaps import Colormap, colormap_of, colormaps
from spectrane.model.errors import LookError

KINDS = {name: colormaps[name].kind for name in colormaps}
# How linear red, green and blue reach eyes without one kind of cone (Viénot et al., 1999).
_DEFICIENT = {
    "protan": [[0.11238, 0.88762, 0], [0.11238, 0.88762, 0], [0.00401, -0.00401, 1]],
    "deutan": [[0.29275, 0.70725, 0], [0.29275, 0.70725, 0], [-0.02234, 0.02234, 1]],
}


def lab(name):
    return to_oklab(colormaps[name].entries[:, :3] / 255.0)


def of_kind(kind):
    return [name for name in colormaps if KINDS[name] == kind]


def test_there_are_enough_of_each_kind():
    assert len(of_kind("sequential")) >= 8
    assert len([n for n in of_kind("diverging") if n != "chartroom"]) >= 3
    assert len(of_kind("cyclic")) == 1
    assert len(colormaps["pebbles"].entries) == 12
    assert {"sward", "kiln", "chartroom"} <= set(colormaps)


@pytest.mark.parametrize("name", of_kind("sequential"))
def test_lightness_goes_one_way_in_even_steps(name):
    steps = np.diff(lab(name)[:, 0])
    assert (steps > -2e-3).all() or (steps < 2e-3).all()
    assert abs(lab(name)[-1, 0] - lab(name)[0, 0]) > 0.55
    if name != "grey":  # whose levels are the screen's own
        blocks = np.linalg.norm(np.diff(lab(name)[::16], axis=0), axis=1)
        assert blocks.max() < 1.7 * blocks.min()


@pytest.mark.parametrize("name", ["ebbflow", "heathsea", "gorsewine"])
def test_diverging_arms_are_of_one_lightness_and_meet_in_a_pale_middle(name):
    light = lab(name)[:, 0]
    assert abs(light - light[::-1]).max() < 0.06
    assert (np.diff(light[:128]) > -4e-3).all()
    assert light[127] > 0.94


def test_the_cyclic_one_closes():
    ring = lab("weathervane")
    steps = np.linalg.norm(np.diff(ring, axis=0, append=ring[:1]), axis=1)
    assert steps.max() < 0.02
    assert np.ptp(ring[:, 0]) > 0.4


def test_the_zero_of_depth_and_height_is_sharp():
    colours = lab("chartroom")
    jump = np.linalg.norm(np.diff(colours, axis=0), axis=1)
    assert jump.argmax() == 127
    assert jump[127] > 10 * np.median(jump)


@pytest.mark.parametrize("eye", _DEFICIENT)
@pytest.mark.parametrize("name", [n for n in colormaps if KINDS[n] in ("sequential", "diverging")])
def test_ends_and_middles_stay_apart_without_a_kind_of_cone(name, eye):
    entries = colormaps[name].entries[:, :3] / 255.0
    seen = linear_light(entries) @ np.array(_DEFICIENT[eye]).T
    shown = to_oklab(np.where(seen <= 0.0031308, seen * 12.92,
                              1.055 * np.maximum(seen, 1e-9) ** (1 / 2.4) - 0.055))  # fmt: skip
    low, middle, high = shown[0], shown[127], shown[-1]
    for first, second in ((low, middle), (middle, high), (low, high)):
        assert np.linalg.norm(first - second) > 0.1


def test_categories_can_be_told_apart():
    colours = lab("pebbles")
    apart = np.linalg.norm(colours[:, None] - colours[None], axis=-1)
    assert apart[np.triu_indices(12, 1)].min() > 0.08


def test_oklab_comes_back(rng):
    srgb = rng.random((500, 3))
    np.testing.assert_allclose(from_oklab(to_oklab(srgb)), srgb, atol=1e-9)


def test_points_make_a_map_and_a_sharp_edge():
    made = Colormap.from_points(
        [(0, "#000000"), (0.5, "#ffffff"), (0.5, "#ff0000"), (1, "#00ff00")]
    )
    assert made.entries[0].tolist() == [0, 0, 0, 255]
    assert made.entries[-1].tolist() == [0, 255, 0, 255]
    assert (made.entries[127][:3] > 245).all()
    assert made.entries[128][1] < 40
    for wrong in ([(0, "#000000")], [(0.2, "#000000"), (1, "#ffffff")],
                  [(0, "#000000"), (1, "#ffffff"), (0.5, "#ffffff")]):  # fmt: skip
        with pytest.raises(LookError, match="two points or more"):
            Colormap.from_points(wrong)


@pytest.mark.parametrize("ending", [".toml", ".csv"])
def test_files_come_back(tmp_path, ending):
    made = Colormap("own", colormaps["hearth"].sample(7), under="#112233", over="#445566")
    made.save(tmp_path / f"own{ending}")
    back = Colormap.load(tmp_path / f"own{ending}")
    np.testing.assert_array_equal(back.entries, made.entries)
    assert back.name == "own"
    if ending == ".toml":
        assert (back.under, back.over) == ("#112233", "#445566")
    with pytest.raises(sp.ExistingFile):
        made.save(tmp_path / f"own{ending}")
    (tmp_path / f"bad{ending}").write_text("1,2,999\n" if ending == ".csv" else "colour = 3\n")
    with pytest.raises(LookError):
        Colormap.load(tmp_path / f"bad{ending}")


def test_names_reversed_and_steps():
    assert (colormap_of("kiln reversed").entries[0] == colormaps["kiln"].entries[-1]).all()
    assert len(colormaps["kiln"].discrete(5).entries) == 5
    with pytest.raises(LookError, match="did you mean 'kiln'"):
        colormap_of("kilm")


@pytest.mark.filterwarnings("ignore:.*cut off")
@pytest.mark.parametrize("dtype", ["u1", "u2", "i4", "f4", "f8"])
@pytest.mark.parametrize("entries", [2, 7, 256, 300])
@pytest.mark.parametrize("ends", [False, True])
@pytest.mark.parametrize("invert", [False, True])
def test_entries_are_floor_of_t_times_n(form, dtype, entries, ends, invert):
    array = np.arange(0, 256, dtype=dtype).reshape(16, 16)
    rgba = np.zeros((entries, 4), np.uint8)
    rgba[:, 0], rgba[:, 1], rgba[:, 3] = np.arange(entries) % 256, np.arange(entries) // 256, 255
    said = {"under": "#0000ff", "over": "#0000fe"} if ends else {}
    look = sp.Look(limits=(50, 200), colormap=Colormap("own", rgba, **said), invert=invert)
    drawn = sp.render(sp.from_array(array), look).rgba
    u = np.clip((array.astype(float) - 50) / 150, 0, 1)
    t = 1 - u if invert else u
    wanted = rgba[np.minimum(np.floor(t * entries), entries - 1).astype(int)]
    if ends:
        wanted[array < 50] = (0, 0, 255, 255)
        wanted[array > 200] = (0, 0, 254, 255)
    np.testing.assert_array_equal(drawn, wanted)


def test_a_colour_map_is_for_one_band(rng):
    array = rng.integers(0, 255, (3, 9, 9)).astype("u1")
    raster = sp.from_array(array, bands=[sp.Band(n, role=n) for n in ("red", "green", "blue")])
    drawn = sp.render(raster, sp.Look(colormap="kiln", limits="type"))
    assert [scale.band for scale in drawn.scales] == ["red"]
    for channels in ((1, 2, 3), "natural"):
        with pytest.raises(LookError, match="is for one band, and the channels show 3"):
            sp.render(raster, sp.Look(colormap="kiln", channels=channels))


def test_no_data_and_16_bits_of_a_colour_map():
    nodata = Colormap("own", colormaps["kiln"].entries, nodata="#123456")
    raster = sp.from_array(np.uint8([[0, 100]]), nodata=0)
    picture = sp.render(raster, sp.Look(colormap=nodata, limits=(0, 200)))
    assert picture.rgba[0, 0].tolist() == [0x12, 0x34, 0x56, 255]
    np.testing.assert_array_equal(picture.rgba16, picture.rgba.astype(int) * 257)


MEANINGS = [
    (sp.Band("ndvi"), [-0.2, 0.8], "sward"),
    (sp.Band("b", description="water depth"), [0.0, 9.0], "estuary reversed"),
    (sp.Band("elevation"), [-50.0, 90.0], "chartroom"),
    (sp.Band("elevation"), [50.0, 90.0], "peatbog"),
    (sp.Band("t", unit="K"), [280.0, 300.0], "kiln"),
    (sp.Band("change"), [-5.0, 5.0], "ebbflow"),
    (sp.Band("wind direction"), [0.0, 360.0], "weathervane"),
    (sp.Band("b"), [3.0, 5.0], "grey"),
]


@pytest.mark.parametrize(("band", "ends", "name"), MEANINGS)
def test_a_fitting_map_is_proposed_and_told(rng, band, ends, name):
    raster = sp.from_array(rng.uniform(*ends, (50, 50)).astype("f4"), bands=[band])
    look = raster.propose_look()
    assert look.colormap == colormap_of(name)
    assert (str(look.limits[0]) == "symmetric:99") == (name in ("chartroom", "ebbflow"))
    picture = sp.render(raster, sp.Look(colormap="auto"))
    assert name in picture.notes[0]
    assert name in picture.description
