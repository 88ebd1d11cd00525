"""Opening what lies at a path: never a pipe that blocks, never a device."""

from __future__ import annotations

import contextlib
import io
import os
import posixpath
import stat
from collections.abc import Iterator, Mapping
from typing import Any

from spectrane.model.addresses import BYTES, OPEN, address_parts, filesystem_of, is_address
from spectrane.model.errors import AccessError, MissingFile, ResourceError, SpectraneError

_KINDS = (
    (stat.S_ISDIR, "a folder"), (stat.S_ISFIFO, "a pipe"), (stat.S_ISSOCK, "a socket"),
    (stat.S_ISCHR, "a device"), (stat.S_ISBLK, "a device"),
)  # fmt: skip


def path_text(path: str | bytes | os.PathLike[str] | os.PathLike[bytes]) -> str:
    """Return a path as text. Raises AccessError for one that no file can have.

    >>> path_text(b"a.tif")
    'a.tif'
    """
    text = os.fsdecode(path)
    if "\0" in text:
        raise AccessError(f"{text!r}: no path can hold a NUL")
    return text


def full_path(name: str) -> str:
    """Return a path that is good in every folder of work; itself where there is no folder any more.

    >>> full_path("/a/../b.tif")
    '/b.tif'
    """
    try:
        return os.path.abspath(name)
    except FileNotFoundError:
        return name


@contextlib.contextmanager
def called_instead(place: str, name: str) -> Iterator[None]:
    """Let errors of ours call a scratch file what it stands for.

    >>> with called_instead("/tmp/x/data.tif", "s3://bucket/a.tif"):
    ...     raise MissingFile("/tmp/x/data.tif: no such file")
    Traceback (most recent call last):
    ...
    spectrane.model.errors.MissingFile: s3://bucket/a.tif: no such file
    """
    try:
        yield
    except SpectraneError as error:
        error.args = tuple(one.replace(place, name) if isinstance(one, str) else one
                           for one in error.args)  # fmt: skip
        raise


def kind_of(mode: int) -> str | None:
    """Return what something is that is no regular file, by ``st_mode``; None for a file."""
    return next((what for test, what in _KINDS if test(mode)), None)


def open_regular(path: str | os.PathLike[str], called: str | None = None) -> int:
    """Return the descriptor of a file that is open for reading; errors name it as it is ``called``.

    Raises MissingFile where there is none, AccessError for what is no file or cannot be read.
    """
    path = path_text(path)
    name = called or path
    flags = os.O_RDONLY | getattr(os, "O_BINARY", 0) | getattr(os, "O_CLOEXEC", 0)
    try:
        # Nothing waits for whoever may write into a pipe.
        file = os.open(path, flags | getattr(os, "O_NONBLOCK", 0))
    except OSError as error:
        raise access_error(name, error) from error
    what = kind_of(os.fstat(file).st_mode)
    if what is not None:
        os.close(file)
        raise AccessError(f"{name}: is {what}, not a file")
    return file


def given_name(given: Any) -> str:
    """Return what messages call what was given to be read: a path, an address, bytes or a file.

    >>> given_name("a.tif"), given_name(b"P6")
    ('a.tif', 'bytes in memory')
    """
    if isinstance(given, str | os.PathLike):
        return path_text(given)
    if isinstance(given, bytes | bytearray | memoryview) or hasattr(given, "getvalue"):
        return BYTES
    return str(getattr(given, "name", "") or OPEN)


def check_open(given: Any) -> None:
    """Raise AccessError for what is neither a name nor bytes nor open for reading."""
    if not hasattr(given, "read"):
        raise AccessError(f"expected a path, an address, bytes or an open binary file, not "
                          f"{type(given).__name__}")  # fmt: skip


def given_bytes(content: object, name: str) -> bytes:
    """Return what an open file gave. Raises AccessError where it is text."""
    if not isinstance(content, bytes):
        raise AccessError(f"{name}: gave text: open it for reading bytes (mode 'rb')")
    return content


def check_options(name: str, options: Mapping[str, Any] | None) -> None:
    """Raise AccessError for storage options beside a local path."""
    if options and not is_address(name):
        raise AccessError(f"{name}: storage options are for addresses, and this is a local path")


def read_small(
    path: Any, most: int, wrong: type[SpectraneError], what: str,
    options: Mapping[str, Any] | None = None,
) -> bytes:  # fmt: skip
    """Return all of a file of at most so many bytes. Raises ``wrong`` for a larger one.

    ``path`` may be an address, whose storage's ``options`` are those, bytes or an open file.
    Raises MissingFile and AccessError as ``open_regular``. ``what`` names it: "a look file".
    """
    name = given_name(path)
    try:
        with _opened_small(path, name, options) as file:
            content = given_bytes(file.read(most + 1), name)
    except MissingFile as error:
        raise MissingFile(f"{name}: no such {what.partition(' ')[2]}") from error
    except SpectraneError:
        raise
    except (OSError, ValueError) as error:  # also of an open file that is closed by now
        raise access_error(name, error) from error
    if len(content) > most:
        raise wrong(f"{name}: is larger than {what} can be ({most} bytes)")
    return content


@contextlib.contextmanager
def _opened_small(given: Any, name: str, options: Mapping[str, Any] | None) -> Iterator[Any]:
    if isinstance(given, bytes | bytearray | memoryview):
        yield io.BytesIO(given)
    elif not isinstance(given, str | os.PathLike):
        check_open(given)
        yield from _whole(given)
    elif is_address(name):
        filesystem, path = filesystem_of(name, options)
        with ReadingAs(name, AccessError, problem="cannot be read"):
            try:
                opened = filesystem.open(path)
            except KeyError as error:  # so archives say it
                raise MissingFile(f"{name}: no such file") from error
            with opened as file:
                yield file
    else:
        check_options(name, options)
        with os.fdopen(open_regular(name.removeprefix("file://"), name), "rb") as file:
            yield file


def _whole(given: Any) -> Iterator[Any]:
    """Yield an open file at its start, and leave it where it was; what has no start as it is."""
    try:
        place = given.tell() if given.seekable() else None
        if place:
            given.seek(0)
    except (AttributeError, OSError, ValueError):  # a closed file tells so when it is read
        place = None
    yield given
    if place is not None:
        given.seek(place)


def read_small_text(
    path: Any, most: int, wrong: type[SpectraneError], what: str,
    options: Mapping[str, Any] | None = None,
) -> str:  # fmt: skip
    """Return a small file's text. Raises ``wrong`` where it is not UTF-8; as ``read_small``."""
    try:
        return read_small(path, most, wrong, what, options).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise wrong(f"{given_name(path)}: is not {what}: not UTF-8 text, at byte {error.start}"
                    ) from error  # fmt: skip


def access_error(name: str, error: Exception) -> AccessError:
    """Return our error for what the system, or a server, said."""
    if isinstance(error, FileNotFoundError):
        parent = os.path.dirname(name) or "."
        known = "://" in name or os.path.isdir(parent)
        return MissingFile(f"{name}: no such file" + ("" if known else f"; no folder {parent}"))
    return AccessError(f"{name}: cannot be read: {reason_of(error)}")


def reason_of(error: BaseException) -> str:
    """Return what an error says in words, whoever raised it.

    >>> reason_of(OSError(28, "No space left")), reason_of(OSError())
    ('No space left', 'OSError')
    """
    return getattr(error, "strerror", None) or str(error) or type(error).__name__


class ReadingAs:
    """Turns whatever is stumbled over in a file into one error that names the file.

    ``what`` is what it was expected to be; or ``problem`` says what is wrong with it. Errors of
    ours pass; in a text they get the file's name where they lack it.

    >>> with ReadingAs("a.toml", MissingFile, "a list"):
    ...     {}["first"]
    Traceback (most recent call last):
    ...
    spectrane.model.errors.MissingFile: a.toml: is not a list: 'first' is missing
    """

    def __init__(
        self, name: str, wrong: type[SpectraneError], what: str = "", *, problem: str = ""
    ) -> None:
        self.name, self.wrong, self.what, self.problem = name, wrong, what, problem

    def __enter__(self) -> None:
        """Do nothing yet."""

    def __exit__(self, _: object, error: BaseException | None, __: object) -> None:
        if not isinstance(error, Exception):
            return
        if isinstance(error, SpectraneError):
            lacks_name = self.what and self.name not in str(error)
            if lacks_name and not isinstance(error, AccessError):
                raise self.wrong(f"{self.name}: {error}") from error
        elif isinstance(error, FileNotFoundError) or (
            isinstance(error, OSError) and error.errno is not None
        ):
            raise access_error(self.name, error) from error
        elif isinstance(error, MemoryError):
            raise ResourceError(f"{self.name}: not enough memory to read it: {error}") from error
        else:
            problem = self.problem or f"is not {self.what}"
            raise self.wrong(f"{self.name}: {problem}: {_why(error)}") from error


def _why(error: Exception) -> str:
    """Return what Python, or a library, says of what it stumbled over, in one short line."""
    if isinstance(error, RecursionError):
        return "it is nested too deep"
    if isinstance(error, KeyError):
        return f"{error} is missing"
    said = " ".join(str(error).split())
    return said[:300] if said else type(error).__name__


def read_toml(
    path: Any, most: int, wrong: type[SpectraneError], what: str,
    options: Mapping[str, Any] | None = None,
) -> dict[str, Any]:  # fmt: skip
    """Return a small TOML file's tables. Raises ``wrong`` where it is none; as ``read_small``."""
    text = read_small_text(path, most, wrong, what, options)
    return parsed_toml(text, given_name(path), wrong, what)


def parsed_toml(text: str, name: str, wrong: type[SpectraneError], what: str) -> dict[str, Any]:
    """Return the tables of a TOML text that came from ``name``. Raises ``wrong``."""
    import tomllib

    with ReadingAs(name, wrong, what):
        try:
            return tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            raise wrong(f"{name}: is not {what}: not TOML: {error}") from error


def beside(name: str, ending: str) -> str:
    """Return the name of what is kept beside a file; of a member of an archive, inside it.

    >>> beside("a.tif", ".toml"), beside("zip://b/a.tif::c.zip", ".toml")
    ('a.tif.toml', 'zip://b/a.tif.toml::c.zip')
    >>> beside("https://maps.example/a.tif?signed=x", ".toml")
    'https://maps.example/a.tif.toml?signed=x'
    """
    scheme, inner, chain = address_parts(name)
    return scheme + inner.rstrip("/\\") + ending + chain


def found_from(path: str, beside: str) -> str:
    """Return what a file that another one, at ``beside``, names is called from here.

    What lies in a storage names what lies in the same storage, or an address.

    >>> found_from("a.tif", "data/b.stack.toml"), found_from("a.tif", "s3://bucket/b.toml")
    ('data/a.tif', 's3://bucket/a.tif')
    >>> found_from("../a.tif", "zip://c/b.toml::/data/d.zip")
    'zip://a.tif::/data/d.zip'
    """
    if "://" in path:
        return path
    scheme, inner, chain = address_parts(beside)
    if scheme:
        joined = posixpath.normpath(posixpath.join(posixpath.dirname(inner), path))
        return f"{scheme}{joined}{chain}"
    if os.path.isabs(path):
        return path
    return os.path.join(os.path.dirname(beside), *path.split("/"))


def named_from(file: str, beside: str) -> str:
    """Return how a file of ours that lies at ``beside`` names another: from its own folder.

    >>> named_from("data/a.tif", "data/b.stack.toml"), named_from("s3://bucket/a.tif", "b.toml")
    ('a.tif', 's3://bucket/a.tif')
    """
    if "://" in file:
        return file
    here = os.path.dirname(os.path.abspath(beside))
    try:
        return os.path.relpath(os.path.abspath(file), here).replace(os.sep, "/")
    except ValueError:  # on another drive
        return os.path.abspath(file)
