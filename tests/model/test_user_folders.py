"""The user's folders are those that platformdirs names."""

from __future__ import annotations

import platformdirs
import pytest

from spectrane.model.user_folders import cache_folder, settings_folder


@pytest.mark.parametrize("said", [None, "", "/tmp/elsewhere"])
def test_folders_are_the_systems_custom(monkeypatch, said):
    for name in ("XDG_CACHE_HOME", "XDG_CONFIG_HOME"):
        monkeypatch.delenv(name, raising=False)
        if said is not None:
            monkeypatch.setenv(name, said)
    assert cache_folder() == platformdirs.user_cache_dir("spectrane", appauthor=False)
    assert settings_folder() == platformdirs.user_config_dir("spectrane", appauthor=False)
