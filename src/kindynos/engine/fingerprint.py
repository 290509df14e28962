"""What trials depend on besides the model and the seed: the versions of packages, and the kind of
processor, whose last bits may differ.
"""

from __future__ import annotations

import platform
from collections.abc import Mapping
from functools import cache
from importlib import import_module
from importlib.metadata import version
from typing import Any

from kindynos.errors import RunError

PACKAGES = ("kindynos", "numpy", "scipy")
# the widest of these that the processor has decides how NumPy works out logarithms and the like
WIDTHS = ("AVX512_SPR", "AVX512_ICL", "AVX512_SKX", "AVX512F", "AVX2", "SVE", "ASIMD", "NEON")


def versions() -> dict[str, str]:
    """Return the versions of Python and of the packages that trials depend on."""
    return dict(_installed())


@cache
def _installed() -> tuple[tuple[str, str], ...]:
    return (
        ("python", platform.python_version()),
        *((package, version(package)) for package in PACKAGES),
    )


@cache
def processor() -> str:
    """Return the kind of processor, by what NumPy uses of it: "x86_64, AVX2"."""
    return ", ".join([platform.machine(), *_widest()])


def _widest() -> list[str]:
    try:
        features: Any = import_module("numpy._core._multiarray_umath").__cpu_features__
    except (ImportError, AttributeError):  # another place in another version
        return []
    return [name for name in WIDTHS if features.get(name)][:1]


def check_versions(requested: Mapping[str, str]) -> None:
    """Raise RunError where this process has other versions than the one that sent the work; of
    Python the first two numbers count.
    """
    here = versions()
    for name, there in requested.items():
        if _counted(name, here[name]) != _counted(name, there):
            raise RunError(
                f"a worker has {name} {here[name]}, and the process that sent the work "
                f"{name} {there}: their trials may differ; install the same versions there"
            )


def _counted(name: str, number: str) -> str:
    return ".".join(number.split(".")[:2]) if name == "python" else number
