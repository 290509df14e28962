"""Run the benchmarks and print a table of ratios: ``python -m benchmarks [NAME ...] [--short]``.

A ratio that is worse than wanted by a quarter is named at the end, and the exit status is 1. With
``--short`` every benchmark runs to its end with few repeats; its figures then mean little, and
none is too bad. ``--write FILE`` writes the figures as tables of Markdown too, with the date and
the versions they were made with, benchmark by benchmark as they are done.
"""

import argparse
import datetime
import os
import platform
import re
import sys
from importlib import import_module
from pathlib import Path

import numpy as np
import scipy

import kindynos

NAMES = (
    "coverage",
    "fit_coverage",
    "risk_coverage",
    "market_coverage",
    "claims",
    "robustness",
    "knowing",
    "choices",
    "events",
    "hard_cases",
    "plans",
    "solver",
    "series",
    "fits",
    "distributions",
    "decisions",
    "allocation",
    "optima",
    "workbooks",
    "night_ferry",
    "ledgers",
    "sweeps",
    "processes",
    "drawdowns",
    "markets",
    "large",
    "growth",
    "waiting",
    "attack",
)
HEAD = """<!-- written by: make proofs -->

Measured on {date} with Kindynos {version}, Python {python}, NumPy {numpy}, SciPy {scipy}, on
{processors} processors. Seeds are fixed, in the files of `benchmarks/`.
"""


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m benchmarks")
    parser.add_argument("names", nargs="*", metavar="NAME", help="default: all of them")
    parser.add_argument("--short", action="store_true", help="few repeats, to see that all run")
    parser.add_argument("--write", type=Path, metavar="FILE", help="write the figures as tables")
    options = parser.parse_args()
    if options.short:
        os.environ["KINDYNOS_SHORT_BENCH"] = "1"
    unknown = sorted(set(options.names) - set(NAMES))
    if unknown:
        sys.exit(f"no benchmark {unknown[0]!r}; known: {', '.join(NAMES)}")
    bad, sections = [], [head()]
    for name in options.names or NAMES:
        module = import_module(f"benchmarks.{name}")
        rows = []
        for row in module.measure():
            label, detail, ratio, wanted = row
            print(f"{label:<90} {ratio:>8.3f}   {wanted:<14} {detail}", flush=True)
            rows.append(row)
            if is_too_bad(ratio, wanted):
                bad.append(label)
        sections.append(table(name, (module.__doc__ or "").split("\n\n")[0], rows))
        if options.write is not None:
            options.write.write_text("\n".join(sections), encoding="utf-8")
    if bad and not options.short:
        sys.exit("worse than wanted by more than a quarter:\n  " + "\n  ".join(bad))


def head() -> str:
    """Return with what the figures were measured."""
    return HEAD.format(
        date=datetime.date.today(),
        version=kindynos.__version__,
        python=platform.python_version(),
        numpy=np.__version__,
        scipy=scipy.__version__,
        processors=os.cpu_count(),
    )


def table(name: str, about: str, rows: list[tuple[str, str, float, str]]) -> str:
    """Return the figures of a benchmark as a table of Markdown."""
    lines = [f"## {name.replace('_', ' ')}", "", " ".join(about.split()), ""]
    lines += ["| case | figure | wanted | in detail |", "| --- | ---: | --- | --- |"]
    for label, detail, ratio, wanted in rows:
        cells = (label, f"{ratio:.3g}", wanted, detail)
        lines.append("| " + " | ".join(cell.replace("|", "\\|") for cell in cells) + " |")
    return "\n".join([*lines, ""])


def is_too_bad(ratio: float, wanted: str) -> bool:
    """Return whether a ratio is worse by more than a quarter than "at most 1.5" or "at least 2"."""
    limit = re.fullmatch(r"at (most|least) ([\d.]+).*", wanted)
    if limit is None:
        return False
    value = float(limit[2])
    return ratio > 1.25 * value if limit[1] == "most" else ratio < 0.8 * value


if __name__ == "__main__":
    main()
