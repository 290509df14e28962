"""Public names that are loaded when they are first used, so that importing a package is quick.

The stub beside a package's ``__init__.py`` is the one list of its names, by topic, and of the
modules that they come from; type checkers and editors read the same list.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Callable
from importlib import import_module
from typing import Any

_NAME = re.compile(r"^from (\S+) import (\w+) as \w+$", re.MULTILINE)
_FOR_ANNOTATIONS = "# For annotations only"


def load_lazily(
    package: str, file: str, *also: str
) -> tuple[Callable[[str], Any], Callable[[], list[str]], list[str]]:
    """Return ``__getattr__``, ``__dir__`` and ``__all__`` of a package with a stub.

    Names below the heading "For annotations only" can be imported, and are not in ``__all__``;
    names given as ``also``, which the package defines, are.
    """
    with open(file.removesuffix("c").removesuffix(".py") + ".pyi", encoding="utf-8") as stub:
        text = stub.read()
    homes = {name: module for module, name in _NAME.findall(text)}
    public = [name for _, name in _NAME.findall(text.partition(_FOR_ANNOTATIONS)[0])]
    public += also

    def get(name: str) -> Any:
        if name not in homes:
            raise AttributeError(f"module {package!r} has no attribute {name!r}{_hint(name)}")
        home = homes[name]
        value = (
            import_module(f"{home}.{name}")
            if home == package
            else getattr(import_module(home), name)
        )
        setattr(sys.modules[package], name, value)
        return value

    def _hint(name: str) -> str:
        from kindynos.errors import closest

        near = None if name.startswith("_") else closest(name, homes)
        return f"; did you mean {near!r}?" if near else ""

    return get, lambda: sorted(public), public
