"""What HDF5's filters made of a chunk, undone (HDF5 File Format Specification 3.0, IV.A.2.l).

Numbers of filters are those that the HDF Group registers; netCDF names bzip2, zstandard and blosc
as its own besides those of the library, which has no code for these three.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Sequence
from typing import Any

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from spectrane.formats.deflate_data import inflate_into

Bytes = NDArray[np.uint8]
_codecs: Any = imagecodecs  # its stubs do not know that ``out`` may be an array
_DEFLATE, _SHUFFLE, _FLETCHER, _BZIP2, _BLOSC, _ZSTD = 1, 2, 3, 307, 32001, 32015
_CHECKSUM = 4
"""Bytes that Fletcher's checksum takes after a chunk."""


class BrokenChunkError(ValueError):
    """A chunk's bytes are not what its filters write."""


def _blosc(data: Bytes, out: Bytes) -> int:
    # Its decoder goes by the length that stands in the head (bytes 12 to 15), whatever it is given.
    if int.from_bytes(data[12:16].tobytes(), "little") != data.size:
        raise BrokenChunkError("is not as long as its head says")
    return len(_codecs.blosc_decode(data, out=out, numthreads=1))


_UNPACKED: dict[int, Callable[[Bytes, Bytes], int]] = {
    _DEFLATE: lambda data, out: inflate_into(data, out, out.size),
    _BZIP2: lambda data, out: len(_codecs.bz2_decode(data, out=out)),
    _BLOSC: _blosc,
    _ZSTD: lambda data, out: len(_codecs.zstd_decode(data, out=out)),
}


class Filters:
    """The filters of a dataset, in the order in which they wrote: (number, size of an item)."""

    def __init__(self, filters: Sequence[tuple[int, int]], chunk_bytes: int) -> None:
        self._filters = tuple(filters)
        self._chunk_bytes = chunk_bytes

    @property
    def known(self) -> bool:
        """Whether all can be undone here: one that packs, after at most one that shuffles."""
        numbers = [number for number, _ in self._filters if number != _FLETCHER]
        packing = numbers[1:] if numbers[:1] == [_SHUFFLE] else numbers
        return len(packing) == 1 and packing[0] in _UNPACKED

    def room(self) -> list[Bytes]:
        """Return room for ``undone`` to work in, shuffled and packed; each thread needs its own."""
        return [np.empty(self._chunk_bytes + _CHECKSUM * len(self._filters), np.uint8)
                for _ in range(2)]  # fmt: skip

    def undone(self, data: Any, left_out: int, room: list[Bytes]) -> Bytes:
        r"""Return a chunk's bytes as they were before its filters, in the room or where they are.

        Bit k of ``left_out`` says that filter k was not applied to this chunk. Raises
        BrokenChunkError.

        >>> import zlib
        >>> packed = zlib.compress(bytes([1, 2, 3, 0, 0, 0]))
        >>> filters = Filters([(2, 2), (1, 0)], 6)
        >>> bytes(filters.undone(packed, 0, filters.room()))
        b'\x01\x00\x02\x00\x03\x00'
        """
        applied = [one for k, one in enumerate(self._filters) if not left_out >> k & 1]
        sizes = [self._chunk_bytes]  # before each filter; that after the packing one is not asked
        for number, _ in applied:
            sizes.append(sizes[-1] + _CHECKSUM * (number == _FLETCHER))
        content = np.frombuffer(data, np.uint8)
        for (number, item), size in zip(reversed(applied), sizes[-2::-1], strict=True):
            if number == _FLETCHER:
                content = _checked(content)
            elif number == _SHUFFLE:
                content = _unshuffled(content, item, room[0])
            else:
                content = _unpacked(number, content, room[1][:size])
        if content.size != self._chunk_bytes:
            raise BrokenChunkError(f"holds {content.size} of {self._chunk_bytes} bytes")
        return content


def _unpacked(number: int, content: Bytes, out: Bytes) -> Bytes:
    try:
        return out[: _UNPACKED[number](content, out)]
    except (RuntimeError, ValueError, zlib.error) as error:
        raise BrokenChunkError(str(error)) from error


def _unshuffled(content: Bytes, item: int, out: Bytes) -> Bytes:
    """Put the bytes of each item together again; those of a last, broken one stand at the end."""
    count = content.size // max(1, item)
    if item < 2 or count < 2:
        return content
    if content.size > out.size:
        raise BrokenChunkError(f"holds {content.size} bytes, more than it is to hold")
    out, whole = out[: content.size], count * item
    for place, plane in enumerate(content[:whole].reshape(item, count)):
        out[place:whole:item] = plane
    out[whole:] = content[whole:]
    return out


def _checked(content: Bytes) -> Bytes:
    if content.size < _CHECKSUM:
        raise BrokenChunkError("has no room for its checksum")
    body, kept = content[:-_CHECKSUM], int.from_bytes(content[-_CHECKSUM:].tobytes(), "little")
    found = int(_codecs.h5checksum_fletcher32(body))
    # Some versions of the library swapped the bytes of its halves, and all read both.
    swapped = (found & 0x00FF00FF) << 8 | (found >> 8 & 0x00FF00FF)
    if kept not in (found, swapped):
        raise BrokenChunkError(f"its checksum is {found:08x}; {kept:08x} is kept with it")
    return body
