"""Run the benchmarks and print a table of ratios: ``python -m benchmarks [NAME ...] [--short]``.

A ratio that is worse than wanted by a quarter is named at the end, and the exit status is 1. With
``--short`` every benchmark runs to its end with few repeats; its figures then mean little, and
none is too bad.
"""

import os
import re
import sys
from importlib import import_module

NAMES = (
    "night_ferry",
    "solver",
    "ledgers",
    "sweeps",
    "processes",
    "drawdowns",
    "markets",
    "plans",
    "distributions",
    "fits",
    "series",
    "fit_coverage",
    "decisions",
    "allocation",
    "optima",
    "coverage",
    "risk_coverage",
    "market_coverage",
    "hard_cases",
    "workbooks",
    "large",
    "attack",
)


def main() -> None:
    names = [name for name in sys.argv[1:] if name != "--short"]
    if "--short" in sys.argv:
        os.environ["KINDYNOS_SHORT_BENCH"] = "1"
    wanted = names or NAMES
    unknown = sorted(set(wanted) - set(NAMES))
    if unknown:
        sys.exit(f"no benchmark {unknown[0]!r}; known: {', '.join(NAMES)}")
    bad = []
    for name in wanted:
        for label, detail, ratio, wanted_ratio in import_module(f"benchmarks.{name}").measure():
            print(f"{label:<90} {ratio:>8.3f}   {wanted_ratio:<14} {detail}", flush=True)
            if is_too_bad(ratio, wanted_ratio):
                bad.append(label)
    if bad and "--short" not in sys.argv:
        sys.exit("worse than wanted by more than a quarter:\n  " + "\n  ".join(bad))


def is_too_bad(ratio: float, wanted: str) -> bool:
    """Return whether a ratio is worse by more than a quarter than "at most 1.5" or "at least 2"."""
    limit = re.fullmatch(r"at (most|least) ([\d.]+).*", wanted)
    if limit is None:
        return False
    value = float(limit[2])
    return ratio > 1.25 * value if limit[1] == "most" else ratio < 0.8 * value


if __name__ == "__main__":
    main()
