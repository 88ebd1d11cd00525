"""Where rasters and volumes come from: files by their content, arrays; and corrections of files."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from numpy.typing import ArrayLike

from spectrane.engine.bars import ProgressLike, told_progress
from spectrane.formats.registry import members_of, open_source
from spectrane.kernels.quiet import quiet
from spectrane.model.addresses import FileLike, FilePath
from spectrane.model.asking import BandFields, NoDataLike, PlacedBy
from spectrane.model.band import Band
from spectrane.model.errors import FormatError, MetadataError
from spectrane.model.frame import Frame
from spectrane.model.grid import CrsLike, Grid
from spectrane.model.look import Look, NoDataWhen
from spectrane.model.resampling import Spacing
from spectrane.raster import Raster
from spectrane.spatial.held import array_source, volume_source

if TYPE_CHECKING:
    from types import EllipsisType

    import pandas
    from xarray import DataArray
    from xarray import Dataset as XarrayDataset

    from spectrane.catalogs.items import Item
    from spectrane.engine.damage import DamagedData
    from spectrane.formats.nifti.source import ComplexPart
    from spectrane.model.source import Source
    from spectrane.spatial.rigid import RigidAlignment
    from spectrane.volume import Volume


@quiet
def open(
    path: FileLike | Item, *, member: int | str | None = None, damaged: DamagedData = "error",
    spacing: Spacing | None = None, complex: ComplexPart | None = None,
    choose: PlacedBy | None = None, assets: Sequence[str] | None = None,
    storage_options: Mapping[str, Any] | None = None, **others: object,
) -> Raster | Volume:  # fmt: skip
    """Open a raster or a volume by its content, whatever its ending; only its head is read.

    ``path`` is a local path (a folder of slices is one volume), an fsspec URL with the
    ``storage_options`` of its kind, bytes, or an open binary file; ``member`` is the
    number (from 1) or the name of one of the rasters inside. Corrections kept in its sidecar are
    laid over it. ``damaged`` data are an ``error``, or with ``keep`` invalid, and how much is
    missing is told. Of unevenly spaced DICOM slices ``spacing`` ``resample`` makes even ones,
    ``nominal`` takes them as if they were even; of complex NIfTI numbers ``complex`` is shown,
    and ``choose`` ``qform`` places it by that matrix where the sform, which goes first, differs;
    ``others`` are what readers of added formats take. An ``item`` of ``scenes`` is the bands of
    its assets as one raster: of all that hold measured values, or of those that ``assets`` names.

    Where it is known what a file holds, ``open_raster`` and ``open_volume`` say so to a type
    checker. Raises MissingFile, AccessError, and FormatError where the file is broken or unknown.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = os.path.join(folder, "a.tif")
    ...     sp.from_array(np.ones((2, 3), np.uint8)).save(path)
    ...     sp.open(path)
    <Raster a.tif: 1 bands, 2 rows x 3 columns, uint8>
    """
    if not isinstance(path, str) and hasattr(path, "data_assets"):
        from spectrane.catalogs.opening import open_item

        item: Any = path
        return Raster(open_item(item, assets, damaged=damaged))
    if assets is not None:
        raise MetadataError("assets: are of the items of a catalogue, which spectrane.scenes gives")
    said = {"spacing": spacing, "complex": complex, "choose": choose}
    options = others | {name: value for name, value in said.items() if value is not None}
    source = open_source(path, member=member, damaged=damaged, storage_options=storage_options,
                         **options)  # fmt: skip
    return _face_of(source)


def _face_of(source: Source) -> Raster | Volume:
    if len(source.shape) == 3:
        from spectrane.volume import Volume  # what volumes need, rasters start without

        return Volume(source)
    return Raster(source)


@quiet
def open_raster(
    path: FileLike | Item, *, member: int | str | None = None, damaged: DamagedData = "error",
    spacing: Spacing | None = None, choose: PlacedBy | None = None,
    assets: Sequence[str] | None = None, storage_options: Mapping[str, Any] | None = None,
) -> Raster:  # fmt: skip
    """Open what must be a raster, else as ``open``. Raises FormatError for a volume.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = os.path.join(folder, "a.tif")
    ...     sp.from_array(np.ones((2, 3), np.uint8)).save(path)
    ...     sp.open_raster(path).shape
    (1, 2, 3)
    """
    opened = open(path, member=member, damaged=damaged, spacing=spacing, choose=choose,
                  assets=assets, storage_options=storage_options)  # fmt: skip
    if isinstance(opened, Raster):
        return opened
    opened.close()
    raise FormatError(f"{opened.source}: is a volume, where a raster is expected; cut it with "
                      "volume.slice(...) or spectrane slices")  # fmt: skip


@quiet
def open_volume(
    path: FileLike, *, member: int | str | None = None, damaged: DamagedData = "error",
    spacing: Spacing | None = None, complex: ComplexPart | None = None,
    choose: PlacedBy | None = None, storage_options: Mapping[str, Any] | None = None,
) -> Volume:  # fmt: skip
    """Open what must be a volume, else as ``open``. Raises FormatError for a raster.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = os.path.join(folder, "a.nii")
    ...     sp.volume_from_array(np.ones((2, 3, 4), np.uint8), affine=np.eye(4)).save(path)
    ...     sp.open_volume(path).shape
    (1, 2, 3, 4)
    """
    opened = open(path, member=member, damaged=damaged, spacing=spacing, complex=complex,
                  choose=choose, storage_options=storage_options)  # fmt: skip
    if not isinstance(opened, Raster):
        return opened
    opened.close()
    raise FormatError(f"{opened.source}: is a raster of two dimensions, where a volume is "
                      "expected; spectrane render draws it")  # fmt: skip


@quiet
def members(
    path: FileLike, *, storage_options: Mapping[str, Any] | None = None
) -> pandas.DataFrame:  # fmt: skip
    """Return the rasters inside a file, a row each; ``open(member=)`` takes number or name.

    Columns: ``member name rows columns bands type``. Raises MissingFile, FormatError.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = os.path.join(folder, "a.npz")
    ...     np.savez(path, depth=np.ones((2, 3)), slope=np.ones((2, 3)))
    ...     sp.members(path)["name"].tolist()
    ['depth', 'slope']
    """
    import pandas

    columns = ["member", "name", "rows", "columns", "bands", "type"]
    return pandas.DataFrame(member_rows(path, storage_options=storage_options),
                            columns=columns)  # fmt: skip


@quiet
def member_rows(
    path: FileLike, *, storage_options: Mapping[str, Any] | None = None
) -> list[dict[str, Any]]:  # fmt: skip
    """Return the rows of ``members`` as plain mappings, which needs no pandas.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = os.path.join(folder, "a.npz")
    ...     np.savez(path, depth=np.ones((2, 3)))
    ...     sp.member_rows(path)[0]["name"]
    'depth'
    """
    listed = members_of(path, storage_options)
    return [{"member": m.number, "name": m.name, "rows": m.rows, "columns": m.columns,
             "bands": m.bands, "type": m.dtype} for m in listed]  # fmt: skip


@quiet
def survey(
    folder: FilePath, *, progress: ProgressLike = None,
    storage_options: Mapping[str, Any] | None = None,
) -> pandas.DataFrame:  # fmt: skip
    """Return every raster and volume below a folder, a row each, found by its content.

    Columns: ``path format rows columns planes bands type members crs pixel_size bytes unusual
    problem``; ``unusual`` is a list, ``problem`` says why a broken file does not open. Only heads
    are read. ``folder`` may be an fsspec URL (``s3://``, ``zip://::pack.zip``), with the
    ``storage_options`` of its kind. Raises FormatError where there is no such folder.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     sp.from_array(np.ones((2, 3), np.uint8)).save(os.path.join(folder, "a.tif"))
    ...     sp.survey(folder)["format"].tolist()
    ['TIFF']
    """
    import pandas

    from spectrane.surveying import SurveyedFile

    columns = list(SurveyedFile.__dataclass_fields__)
    return pandas.DataFrame(
        survey_rows(folder, progress=progress, storage_options=storage_options), columns=columns
    )


@quiet
def survey_rows(
    folder: FilePath, *, progress: ProgressLike = None,
    storage_options: Mapping[str, Any] | None = None,
) -> list[dict[str, Any]]:  # fmt: skip
    """Return the rows of ``survey`` as plain mappings, which needs no pandas.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     sp.from_array(np.ones((2, 3), np.uint8)).save(os.path.join(folder, "a.tif"))
    ...     sp.survey_rows(folder)[0]["format"]
    'TIFF'
    """
    from dataclasses import asdict

    from spectrane.surveying import surveyed_files as look_below

    found = look_below(folder, told_progress(progress), storage_options)
    return [asdict(entry) for entry in found]


@quiet
def amend(
    path: FilePath, *, undo: bool = False, nodata: NoDataLike | EllipsisType = ...,
    nodata_when: NoDataWhen | None = None, bands: BandFields | None = None,
    crs: CrsLike | None = None, bounds: Sequence[float] | None = None,
    corner: Sequence[float] | None = None, pixel_size: Sequence[float] | None = None,
    affine: ArrayLike | None = None, look: Look | Mapping[str, object] | None = None,
    notes: str | None = None, spacing: Spacing | None = None,
    metadata: Mapping[str, str | float | None] | None = None, inside: bool = False,
    overviews: bool = False, alignment: RigidAlignment | None = None,
) -> None:  # fmt: skip
    """Keep corrections with a file, so that every later load has them.

    ``nodata`` is a number or a list with (low, high) ranges; None means there is none. ``bands``
    maps a number (from 1), name or role to fields of a band. A place is given by ``bounds``, by
    ``corner`` (outer corner of the first pixel) and ``pixel_size``, or by ``affine`` (3x3, from
    column and row of corners to the map). ``metadata`` says what it is: ``title``, ``date``,
    ``cloud`` (percent), or any key; None takes one away. ``spacing`` is how a series of uneven
    slices is stacked from now on, ``alignment`` what ``align`` found of a volume: it lies where it
    belongs from now on. Without ``inside`` they go to the sidecar
    ``NAME.spectrane.toml``; with it, into the file's own fields (TIFF, FITS, PNG), whose pixels are
    left alone. ``undo`` takes the last correction back, and goes alone; so do ``overviews``,
    which are made inside a TIFF and beside any other file (``NAME.spectrane-reduced.tif``).

    Raises MetadataError for what cannot be (an unknown band or field, two places at once), and
    FormatError where the format has no place for it inside.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = os.path.join(folder, "a.tif")
    ...     sp.from_array(np.ones((2, 3), np.uint8)).save(path)
    ...     sp.amend(path, bands={1: {"role": "nir"}})
    ...     sp.open_raster(path).bands[0].role
    'nir'
    """
    from spectrane.formats import amending

    said = {"nodata_when": nodata_when, "bands": bands, "crs": crs, "bounds": bounds,
            "corner": corner, "pixel_size": pixel_size, "affine": affine, "look": look,
            "notes": notes, "spacing": spacing, "metadata": metadata,
            "moved": None if alignment is None else alignment.matrix}  # fmt: skip
    corrections: dict[str, object] = {k: v for k, v in said.items() if v is not None}
    if overviews:
        if undo or corrections or nodata is not ...:
            raise MetadataError("amend: overviews are made alone, without other corrections")
        amending.make_overviews(path)
        return
    if not undo:
        amending.keep_corrections(path, nodata=nodata, inside=inside, **corrections)  # type: ignore[arg-type]
        return
    corrections |= {} if nodata is ... else {"nodata": nodata}
    if corrections:
        raise MetadataError(
            "amend: undo takes the last correction back, and goes alone; leave out "
            f"{', '.join(corrections)}, or amend again afterwards"
        )
    amending.undo_correction(path)


@quiet
def from_array(
    array: ArrayLike, *, grid: Grid | None = None, bands: Iterable[Band | str] | None = None,
    nodata: NoDataLike = None, band_axis: int | None = None,
) -> Raster:  # fmt: skip
    """Return a raster of an array (rows, columns) or (bands, rows, columns), not copied.

    A masked array's mask is kept. ``bands`` are Bands or names. ``nodata`` is a number, a list with
    (low, high) ranges, or a mapping by band number. ``band_axis`` says which of three axes holds
    the bands (the first): -1 for (rows, columns, bands). Raises MetadataError, GridMismatch,
    BandError where they do not fit.

    >>> import numpy as np, spectrane as sp
    >>> sp.from_array(np.array([[0, 7]], np.uint8), nodata=0).pixels().tolist()
    [[[None, 7]]]
    """
    return Raster(array_source(array, grid=grid, bands=bands, nodata=nodata, band_axis=band_axis))


@quiet
def volume_from_array(
    array: ArrayLike, *, affine: ArrayLike, frames: Sequence[Frame | str] | None = None,
    nodata: NoDataLike = None, frame_axis: int | None = None,
) -> Volume:  # fmt: skip
    """Return a volume of an array (i, j, k) or (frames, i, j, k), not copied.

    ``affine`` (4x4) takes (i, j, k) of a voxel's centre to patient millimetres (RAS+). ``nodata``
    is a stored number that means nothing. ``frame_axis`` says which of four axes holds the frames
    (the first). Raises MetadataError where they do not fit.

    >>> import numpy as np, spectrane as sp
    >>> sp.volume_from_array(np.zeros((2, 3, 4)), affine=np.diag([2, 2, 3, 1])).spacing
    (2.0, 2.0, 3.0)
    """
    bands = None
    if frames is not None:
        named = [frame if isinstance(frame, Frame) else Frame(str(frame)) for frame in frames]
        bands = [Band(f.name, unit=f.unit, scale=f.scale, offset=f.offset, time=f.time,
                      statistic=f.statistic) for f in named]  # fmt: skip
    from spectrane.volume import Volume

    return Volume(volume_source(array, affine=affine, bands=bands, nodata=nodata,
                                frame_axis=frame_axis))  # fmt: skip


@quiet
def from_xarray(
    array: DataArray | XarrayDataset, *, variable: str | None = None
) -> Raster | Volume:  # fmt: skip
    """Return a raster, or a volume, of an ``xarray.DataArray``; nothing is copied or computed.

    What ``to_xarray`` made comes back as it was, also a part of it, under its place and meaning.
    Others are understood by the CF conventions: coordinates, units, no-data, grid mapping. A
    Dataset of several arrays needs the name of one as ``variable``. Raises ArgumentError for what
    is no such array.

    >>> import numpy as np, spectrane as sp
    >>> grid = sp.Grid.from_corner((2, 3), x=0, y=20, pixel_size=10, crs="EPSG:32727")
    >>> raster = sp.from_array(np.arange(6).reshape(2, 3), grid=grid, bands=["depth"])
    >>> array = raster.to_xarray()
    >>> array.dims, array.x.values.tolist()
    (('band', 'y', 'x'), [5.0, 15.0, 25.0])
    >>> sp.from_xarray(array[:, :, 1:]).grid.bounds
    (10.0, 0.0, 30.0, 20.0)
    """
    from spectrane.exchange.from_xarray import source_from_xarray

    source = source_from_xarray(array, variable=variable)
    return _face_of(source)
