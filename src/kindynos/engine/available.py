"""How much memory there is, and whether work that is about to start would fit into it."""

from __future__ import annotations

import math
import os
from pathlib import Path

from kindynos.errors import ParameterError

GROUP = Path("/sys/fs/cgroup")  # where Linux keeps the limits of a container
SPARE = 0.9  # of what is available; the rest is left to others


def available_memory() -> float:
    """Return how many bytes this process may still use: what the machine has free, and what the
    limits of its container and of itself leave; infinite where none of it can be read.
    """
    return min(_free(), _left_by_container(), _left_by_limit())


def check_memory(what: str, needed: float) -> None:
    """Raise ParameterError for work that needs more bytes than there are; ``what`` names it, in the
    plural.
    """
    available = available_memory()
    if needed > SPARE * available:
        raise ParameterError(
            f"{what} take {size(needed)}, and {size(available)} of memory are available"
        )


def size(count: float) -> str:
    """Return a number of bytes in words.

    >>> size(3 * 2**30), size(5e6)
    ('3.0 GB', '5 MB')
    """
    return f"{count / 2**30:,.1f} GB" if count > 1e8 else f"{count / 2**20:.0f} MB"


def _free() -> float:
    try:
        lines = Path("/proc/meminfo").read_text(encoding="ascii").splitlines()
        return 1024.0 * next(int(line.split()[1]) for line in lines if "MemAvailable" in line)
    except (OSError, ValueError, StopIteration):
        pass
    try:  # not what is free, but what the machine has
        return float(os.sysconf("SC_PAGE_SIZE")) * os.sysconf("SC_PHYS_PAGES")
    except (AttributeError, ValueError, OSError):
        return math.inf


def _left_by_container() -> float:
    try:
        most, used = ((GROUP / name).read_text() for name in ("memory.max", "memory.current"))
        return float(most) - float(used)
    except (OSError, ValueError):  # no container, or one without a limit
        return math.inf


def _left_by_limit() -> float:
    try:
        import resource

        most = resource.getrlimit(resource.RLIMIT_AS)[0]
        if most == resource.RLIM_INFINITY:
            return math.inf
        pages = int(Path("/proc/self/statm").read_text(encoding="ascii").split()[0])
        return float(most) - pages * float(os.sysconf("SC_PAGE_SIZE"))
    except (ImportError, OSError, ValueError):
        return math.inf
