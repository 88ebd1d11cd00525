"""Spoil files of every kind and see what becomes of them: a result, or one error of ours.

Each case is an answer of a generator for the seed, the kind and the case's number alone, so that it
can be made again. What is found is made small, kept, and told in a table; the exit status says
whether there was anything.
"""

from __future__ import annotations

import math
import sys
import tempfile
import time
import warnings
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from multiprocessing import get_context
from pathlib import Path
from random import Random

import click

from fuzzing.children import Case, Outcome, minimised, outcomes, written
from fuzzing.kinds import KINDS, Files, Kind


@click.command(help=__doc__)
@click.option("--cases", default=26_000, show_default=True, help="how many, in all kinds together")
@click.option("--seed", default=1, show_default=True, help="another one gives other cases")
@click.option("--only", multiple=True, type=click.Choice(list(KINDS)), help="kinds to try")
@click.option("--keep", type=click.Path(path_type=Path), default=Path("fuzzing/found"),
              show_default=True, help="a folder for what is found")  # fmt: skip
@click.option("--jobs", default=2, show_default=True, help="kinds that are tried side by side")
def main(cases: int, seed: int, only: tuple[str, ...], keep: Path, jobs: int) -> None:
    """Try them, print the table, and exit."""
    names = only or tuple(KINDS)
    unit = cases / sum(KINDS[name].share for name in names)
    counts = [math.ceil(unit * KINDS[name].share) for name in names]
    click.echo(_line("kind", *_TOLD, "per s"))
    total: Counter[str] = Counter()
    with ProcessPoolExecutor(jobs, mp_context=get_context("fork")) as pool:
        for lines, row in pool.map(partial(tried, seed=seed, keep=keep), names, counts):
            click.echo(lines)
            total += row
    click.echo(_line("all", *(total[what] for what in _TOLD), ""))
    sys.exit(1 if total["faults"] else 0)


def tried(name: str, cases: int, seed: int, keep: Path) -> tuple[str, Counter[str]]:
    """Try cases of one kind; return lines of the table, and keep what is found."""
    kind, began = KINDS[name], time.monotonic()
    seeds = kind.seeds()
    warmed(seeds, kind)
    for case, outcome in outcomes(iter(map(dict, seeds)), kind.use):
        if outcome.what != "answered":
            raise SystemExit(f"{name}: its seed {next(iter(case))} is no good: {outcome}")
    count: Counter[str] = Counter()
    found: dict[tuple[str, str], tuple[int, Case, Outcome]] = {}
    for case, outcome in outcomes(made(name, seeds, cases, seed), kind.use):
        count[outcome.what if not outcome.fault else "faults"] += 1
        if outcome.fault:
            key = outcome.what, outcome.where.split()[0] if outcome.where else ""
            before = found.get(key)
            found[key] = (1 + (before[0] if before else 0), *(before[1:] if before else
                          (case, outcome)))  # fmt: skip
    count["cases"] = cases
    rate = cases / (time.monotonic() - began)
    lines = [_line(name, *(count[what] for what in _TOLD), f"{rate:.0f}")]
    for (what, _), (times, case, outcome) in found.items():
        path = kept(name, kind, seeds, case, outcome, keep)
        lines.append(f"    {times} x {what}: {outcome.where}  ({path})")
    return "\n".join(lines), count


_TOLD = ("cases", "answered", "refused", "faults")


def _line(name: str, *columns: object) -> str:
    return f"{name:16}" + "".join(f"{column:>10}" for column in columns)


def warmed(seeds: list[Files], kind: Kind) -> None:
    """Load here what good files need, so that no child has to."""
    with tempfile.TemporaryDirectory() as folder, warnings.catch_warnings():
        warnings.simplefilter("ignore")
        for seed in seeds:
            kind.use(written(Path(folder), seed))


def made(name: str, seeds: list[Files], cases: int, seed: int) -> Iterator[Case]:
    """Yield the cases of one kind."""
    for number in range(cases):
        random = Random(f"{seed}/{name}/{number}")
        files = dict(seeds[number % len(seeds)])
        first = next(iter(files))
        files[first] = KINDS[name].mutate(random, files[first])
        yield files


def kept(
    name: str, kind: Kind, seeds: list[Files], case: Case, outcome: Outcome, keep: Path
) -> Path:
    """Write a case, made small, into a folder of its own; return the changed file's path."""
    first = next(iter(case))
    seed = next(dict(one) for one in seeds if next(iter(one)) == first)
    patient = outcome.what not in ("hang", "slow", "memory")
    small = minimised(case, seed, outcome, kind.use, tries=120 if patient else 8)
    where = "-".join((name, outcome.what, outcome.where.split()[0] if outcome.where else ""))
    folder = keep / "".join(letter if letter.isalnum() else "-" for letter in where)[:80]
    return written(folder, small)


if __name__ == "__main__":
    main()
