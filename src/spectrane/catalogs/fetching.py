"""Scenes brought home: the assets asked for, whole or not at all, going on where a run was cut."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Mapping, Sequence
from contextlib import closing
from typing import Any

from spectrane.catalogs.items import Asset, Item, storage_options
from spectrane.catalogs.opening import assets_named
from spectrane.engine.files import open_bytes
from spectrane.engine.threads import Progress, no_progress
from spectrane.model.addresses import file_name
from spectrane.model.errors import ChangedFile, ExistingFile, FormatError
from spectrane.model.whole_files import written_whole

_PIECE = 4 << 20


def fetch_item(
    item: Item, folder: str, *, assets: Sequence[str] | None = None, overwrite: bool = False,
    progress: Progress = no_progress,
) -> list[str]:  # fmt: skip
    """Bring an item's assets into ``folder``/its id, with a document that names them there.

    ``assets`` are keys, band names or roles; None takes all with measured values, masks and the
    small picture. A file that is there whole is kept; one that was cut short goes on, where it did
    not change meanwhile. Returns the paths, the document's first. Raises what reading raises.
    """
    home = os.path.join(folder, _safe_name(item.id))
    os.makedirs(home, exist_ok=True)
    chosen = _chosen(item, assets)
    paths, taken = [], set[str]()
    content: dict[str, Any] = {**item.content, "assets": {}, "links": []}
    said = item.content.get("assets") or {}
    for asset in chosen:
        name = _asset_name(asset, taken)
        path = os.path.join(home, name)
        _fetch(asset.href, path, overwrite, progress, storage_options(item, asset))
        paths.append(path)
        content["assets"][asset.key] = {**said.get(asset.key, {}), "href": f"./{name}"}
    document = os.path.join(home, f"{_safe_name(item.id)}.json")
    with written_whole(document, overwrite=True) as file:
        file.write(json.dumps(content, indent=1, ensure_ascii=False).encode())
    return [document, *paths]


def _chosen(item: Item, assets: Sequence[str] | None) -> list[Asset]:
    if assets is not None:
        return list({asset.key: asset for asset, _ in assets_named(item, assets)}.values())
    small = item.picture()
    masks = [one for one in item.assets.values() if one.is_mask]
    chosen = [*item.data_assets(), *masks, *([] if small is None else [small])]
    return list({one.key: one for one in chosen}.values())


def _safe_name(text: str) -> str:
    """Return a name that no folder is left by."""
    name = re.sub(r"[^\w.+-]+", "_", text).strip(".") or "scene"
    return name[:120]


def _asset_name(asset: Asset, taken: set[str]) -> str:
    name = _safe_name(file_name(asset.href.rstrip("/")) or asset.key)
    if name in taken:
        name = f"{_safe_name(asset.key)}_{name}"
    taken.add(name)
    return name


def _fetch(
    href: str, path: str, overwrite: bool, progress: Progress, options: Mapping[str, Any] | None
) -> None:  # fmt: skip
    """Copy a file; what is there of it already is not fetched again."""
    if os.path.isdir(href):
        raise FormatError(f"{href}: is a folder; copy it by hand")
    with closing(open_bytes(href, options)) as file:
        if os.path.exists(path) and not overwrite:
            if os.path.getsize(path) == file.size:
                return
            raise ExistingFile(f"{path}: exists, and is another file than {href} "
                               f"({file.size} bytes); --overwrite replaces it")  # fmt: skip
        partial = os.path.join(os.path.dirname(path), f".{os.path.basename(path)}.partial")
        state = f"{partial}.state"
        key = json.dumps([str(one) for one in file.key])
        done = _resumed(partial, state, key)
        with open(partial, "r+b" if done else "wb") as out:
            with open(state, "w", encoding="utf-8") as noted:
                noted.write(key)
            out.seek(done)
            while done < file.size:
                piece = file.read(done, min(_PIECE, file.size - done))
                if not piece:
                    raise ChangedFile(f"{href}: ended after {done} of {file.size} bytes")
                out.write(piece)
                done += len(piece)
                progress(done, file.size)
            out.truncate(file.size)
        os.replace(partial, path)
        os.unlink(state)


def _resumed(partial: str, state: str, key: str) -> int:
    """Return how many bytes of the same file a run before this one left."""
    try:
        with open(state, encoding="utf-8") as noted:
            return os.path.getsize(partial) if noted.read() == key else 0
    except OSError:
        return 0
