"""Cases run in forked children, each under an alarm and a cap of memory: a crash is a finding."""

from __future__ import annotations

import contextlib
import os
import pickle
import resource
import select
import shutil
import signal
import sys
import tempfile
import time
import traceback
import warnings
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import spectrane as sp
from spectrane.engine import cache

SECONDS, CPU_SECONDS = 5.0, 2.0
MEMORY = 256 << 20
_CAP = 3 << 30
"""Bytes of addresses of a child: what takes more ends in MemoryError, and is a finding."""

Case = dict[str, bytes]


@dataclass(frozen=True)
class Outcome:
    """What became of a case: ``answered``, ``refused`` by an error of ours, or a fault."""

    what: str
    where: str = ""

    @property
    def fault(self) -> bool:
        """Whether it is something to mend."""
        return self.what not in ("answered", "refused")


def outcomes(
    cases: Iterator[Case], use: Callable[[Path], object]
) -> Iterator[tuple[Case, Outcome]]:
    """Yield each case with what became of it; a child that dies is followed by another."""
    child: _Child | None = None
    for case in cases:
        child = child or _Child(use)
        outcome = child.ask(case)
        yield case, outcome
        if child.over:
            child.end()
            child = None
    if child is not None:
        child.end()


class _Child:
    """A copy of this process that tries one case after the other."""

    def __init__(self, use: Callable[[Path], object]) -> None:
        self.over = False
        self._folder = Path(tempfile.mkdtemp(prefix="fuzzing-"))
        asked, asking = os.pipe()
        answered, answering = os.pipe()
        sys.stdout.flush()
        self._process = os.fork()
        if self._process == 0:
            os.close(asking)
            os.close(answered)
            _serve(asked, answering, self._folder, use)
        os.close(asked)
        os.close(answering)
        self._asking, self._answered = os.fdopen(asking, "wb"), os.fdopen(answered, "rb")

    def ask(self, case: Case) -> Outcome:
        """Return what becomes of a case."""
        try:
            pickle.dump(case, self._asking)
            self._asking.flush()
            waiting = select.poll()
            waiting.register(self._answered, select.POLLIN)
            if not waiting.poll(SECONDS * 1000):
                self.over = True
                return Outcome("hang", self._where())
            outcome: Outcome = pickle.load(self._answered)
        except (EOFError, BrokenPipeError, pickle.UnpicklingError):
            self.over = True
            _, status = os.waitpid(self._process, 0)
            self._process = 0
            return Outcome("crash", f"status {os.waitstatus_to_exitcode(status)}")
        if outcome.what in ("memory", "slow"):
            self.over = True  # whatever it holds now would be counted to the next
        return outcome

    def _where(self) -> str:
        """Have the child write where it is, and return the innermost line of ours."""
        os.kill(self._process, signal.SIGUSR1)
        time.sleep(0.5)
        lines = (self._folder / "trace").read_text().split("\n")
        return next((line.strip() for line in lines if "spectrane" in line), "?")

    def end(self) -> None:
        """Stop the child, and remove what it left."""
        for line in (self._asking, self._answered):
            with contextlib.suppress(OSError):
                line.close()
        if self._process:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self._process, signal.SIGKILL)
            os.waitpid(self._process, 0)
        shutil.rmtree(self._folder, ignore_errors=True)


def _serve(asked: int, answering: int, folder: Path, use: Callable[[Path], object]) -> None:
    import faulthandler

    resource.setrlimit(resource.RLIMIT_AS, (_CAP, _CAP))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    faulthandler.disable()
    trace = open(folder / "trace", "w")  # noqa: SIM115
    faulthandler.register(signal.SIGUSR1, trace)
    said = os.open(folder / "said", os.O_RDWR | os.O_CREAT | os.O_APPEND)
    os.dup2(said, 1)
    os.dup2(said, 2)
    try:
        with open(asked, "rb") as requests, open(answering, "wb") as answers:
            while True:
                case = pickle.load(requests)
                pickle.dump(_tried(case, folder / "files", use, said), answers)
                answers.flush()
    except EOFError:
        pass
    finally:
        os._exit(0)


def written(folder: Path, case: Mapping[str, bytes]) -> Path:
    """Write a case's files into a folder; return the path of the spoiled one."""
    for name, data in case.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(data)
    return folder / next(iter(case))


def _tried(case: Case, folder: Path, use: Callable[[Path], object], said: int) -> Outcome:
    shutil.rmtree(folder, ignore_errors=True)
    path = written(folder, case)
    os.ftruncate(said, 0)
    before, began = _peak(), time.process_time()
    outcome = _outcome(path, use)
    cache.blocks.clear()
    if outcome.fault:
        return outcome
    if (spent := time.process_time() - began) > CPU_SECONDS:
        return Outcome("slow", f"{spent:.1f} s")
    if (taken := _peak() - before) > MEMORY:
        return Outcome("memory", f"{taken >> 20} MB")
    words = os.pread(said, 200, 0)
    return Outcome("writes", repr(words)) if words else outcome


def _outcome(path: Path, use: Callable[[Path], object]) -> Outcome:
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always")
        try:
            use(path)
            outcome = Outcome("answered")
        except sp.SpectraneError as error:
            outcome = Outcome("refused", str(error)) if str(error) else Outcome(
                "says nothing", _place(error))  # fmt: skip
        except Exception as error:
            outcome = Outcome(type(error).__name__, _place(error))
    for warning in caught:
        if not issubclass(warning.category, sp.DataWarning) and not outcome.fault:
            where = f"{warning.filename.rpartition('spectrane/')[2]}:{warning.lineno}"
            outcome = Outcome(f"{warning.category.__name__}", f"{where} {warning.message!s:.80}")
    return outcome


def _place(error: BaseException) -> str:
    """Return the innermost line of ours, and what it said."""
    frames = [frame for frame in traceback.extract_tb(error.__traceback__)
              if "/spectrane/" in frame.filename]  # fmt: skip
    last = frames[-1] if frames else traceback.extract_tb(error.__traceback__)[-1]
    return f"{last.filename.rpartition('spectrane/')[2]}:{last.lineno} {str(error)[:80]!r}"


def _peak() -> int:
    """Return the most memory this process held."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss << 10


def minimised(case: Case, seed: Case, outcome: Outcome, use: Callable[[Path], object],
              tries: int = 120) -> Case:  # fmt: skip
    """Return a smaller case that ends alike: parts of the file are left out, or restored."""
    name = next(iter(case))
    best = case[name]

    def ends_alike(data: bytes) -> bool:
        [(_, again)] = outcomes(iter([{**case, name: data}]), use)
        return (again.what, again.where.split()[:1]) == (outcome.what, outcome.where.split()[:1])

    for change in (_restored, _shortened):
        step = max(1, len(best) // 2)
        while step and tries > 0:
            for smaller in change(best, seed[name], step):
                tries -= 1
                if ends_alike(smaller):
                    best = smaller
                    break
                if tries <= 0:
                    break
            else:
                step //= 4
    return {**case, name: best}


def _restored(data: bytes, seed: bytes, step: int) -> Iterator[bytes]:
    """Yield data with parts as they were before."""
    for start in range(0, min(len(data), len(seed)), step):
        part = slice(start, start + step)
        if data[part] != seed[part] and len(data) >= start + step:
            yield data[:start] + seed[part] + data[start + len(seed[part]) :]


def _shortened(data: bytes, seed: Sequence[int], step: int) -> Iterator[bytes]:
    """Yield data without parts."""
    for start in range(0, len(data), step):
        yield data[:start] + data[start + step :]
