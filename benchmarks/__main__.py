"""Run the benchmarks and print a table of ratios: ``python -m benchmarks [NAME ...] [--short]``.

With ``--short`` every benchmark runs to its end with few repeats; its figures then mean little.
"""

import os
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
    for name in wanted:
        for label, detail, ratio, wanted_ratio in import_module(f"benchmarks.{name}").measure():
            print(f"{label:<90} {ratio:>8.3f}   {wanted_ratio:<14} {detail}", flush=True)


if __name__ == "__main__":
    main()
