"""Timing two things in turn, so that a machine whose speed drifts slows both."""

import os
import subprocess
import sys
import time
from statistics import median

SHORT = bool(os.environ.get("KINDYNOS_SHORT_BENCH"))  # as .ci/run asks, to see that all run


def repeats(count: int, short: int = 3) -> int:
    """Return how often a case is repeated: KINDYNOS_SEEDS, or ``count``, or few in short form."""
    return short if SHORT else int(os.environ.get("KINDYNOS_SEEDS", str(count)))


def seconds(function) -> float:
    begun = time.perf_counter()
    function()
    return time.perf_counter() - begun


def paired(ours, baseline, runs: int = 7) -> tuple[float, float, float]:
    """Return the median seconds of both and the median of the ratios, after one warm-up of each."""
    if not SHORT:
        ours(), baseline()
    times = [(seconds(ours), seconds(baseline)) for _ in range(1 if SHORT else runs)]
    return median(a for a, _ in times), median(b for _, b in times), median(a / b for a, b in times)


def python(*arguments: str):
    """Return a function that runs a whole Python process with its output thrown away; modules are
    compiled once, as they are for users.
    """
    compiled = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    return lambda: subprocess.run(
        [sys.executable, *arguments], check=True, stdout=subprocess.DEVNULL, env=compiled
    )
