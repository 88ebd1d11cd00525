"""Settings, progress, and what is told to who follows it."""

from __future__ import annotations

import io
import logging

import numpy as np
import pytest

import spectrane as sp
from spectrane.engine import cache, remembered
from spectrane.engine.threads import thread_count
from spectrane.model.settings import Settings


@pytest.fixture(autouse=True)
def as_they_were():
    yield
    for name in dir(sp.settings):
        if name != "tell":
            delattr(sp.settings, name)


def test_code_wins_over_the_environment_and_that_over_the_file(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    (tmp_path / "spectrane").mkdir()
    (tmp_path / "spectrane" / "config.toml").write_text(
        'threads = 3\ncache_mb = 7\ntimeout = -1\ncolour = "red"\n')  # fmt: skip
    monkeypatch.setenv("SPECTRANE_CACHE_MB", "9")
    own = Settings()
    with pytest.warns(sp.DataWarning) as told:
        assert own.threads == 3
    assert ["passed over" in str(one.message) for one in told] == [True, True]
    assert (own.cache_mb, own.timeout) == (9, 30)
    own.cache_mb = 11
    assert own.cache_mb == 11
    del own.cache_mb
    assert own.cache_mb == 9
    monkeypatch.setenv("SPECTRANE_CACHE_MB", "many")
    with pytest.raises(sp.ArgumentError, match="SPECTRANE_CACHE_MB=many: expected megabytes"):
        _ = own.cache_mb
    with pytest.raises(AttributeError, match="did you mean 'threads'"):
        own.treads = 2
    for name, value in (("threads", 1.5), ("memory_mb", -1), ("timeout", 0), ("identity", "maybe")):
        with pytest.raises(sp.ArgumentError, match=f"settings.{name}"):
            setattr(own, name, value)


def test_what_is_set_is_done(tmp_path):
    sp.settings.threads = 5
    assert thread_count() == 5
    before = cache.blocks.limit
    sp.settings.memory_mb = 1
    assert cache.blocks.limit == 1 << 20
    del sp.settings.memory_mb
    assert cache.blocks.limit == before
    sp.settings.cache_folder = tmp_path
    assert remembered.folder("x") == str(tmp_path / "x")
    assert "threads" in repr(sp.settings)


def test_progress_is_told_or_shown(capsys, tmp_path, monkeypatch):
    raster = sp.from_array(np.ones((3000, 20), "u1"))
    told = []
    raster.save(tmp_path / "a.tif", progress=lambda done, total: told.append(done / total))
    assert told == sorted(told)
    assert told[-1] == 1
    raster.save(tmp_path / "a.tif", overwrite=True, progress=True)
    raster.statistics(progress=True)
    assert "100" in capsys.readouterr().err
    raster.save(tmp_path / "a.tif", overwrite=True, progress=False)
    assert capsys.readouterr().err == ""


def test_the_log_is_silent_unless_somebody_listens(tmp_path, capsys, caplog):
    sp.from_array(np.ones((3, 2))).save(tmp_path / "a.tif")
    assert capsys.readouterr() == ("", "")
    with caplog.at_level(logging.DEBUG, logger="spectrane"):
        sp.open(tmp_path / "a.tif").save(tmp_path / "b.tif")
    said = [record.getMessage() for record in caplog.records]
    assert said == [f"opened {tmp_path}/a.tif as TIFF", f"wrote {tmp_path}/b.tif"]


def test_versions_name_what_is_there(capsys):
    sp.show_versions()
    said = capsys.readouterr().out
    assert f"numpy{' ' * 20}"[:6] in said
    assert np.__version__ in said
    assert "memory_mb" in said
    assert io.StringIO(said).readline().startswith("spectrane")
