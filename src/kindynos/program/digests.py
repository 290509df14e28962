"""A digest of anything that a model may hold, the same in every process: numbers, arrays, functions
with all that they reach, objects with what they keep.

Two models whose digests differ may draw other trials; that two of one digest draw the same is
checked by working out a block again (``kindynos.engine.checkpoint`` and ``kindynos.model.parts``).
"""

from __future__ import annotations

import functools
import hashlib
import pickle
import types
from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from typing import Any

import numpy as np

PLAIN = (type(None), bool, int, float, complex, str, bytes)
DEEPEST = 200  # levels of what holds what


def digest_of(*values: Any) -> str:
    """Return a digest of values, 32 hexadecimal digits.

    >>> digest_of(1, [2.0]) == digest_of(1, [2.0]), digest_of(1) == digest_of(1.0)
    (True, False)
    """
    walk = _Walk()
    for value in values:
        walk.add(value)
    return walk.hash.hexdigest()[:32]


class _Walk:
    """Goes through values in a fixed order, each object once, and hashes what it meets."""

    def __init__(self) -> None:
        self.hash = hashlib.sha256()
        self.met: dict[int, int] = {}
        self.alive: list[Any] = []  # so that no number of an object is used twice
        self.depth = 0

    def say(self, *words: str) -> None:
        for word in words:
            data = word.encode("utf-8", "surrogatepass")
            self.hash.update(f"{len(data)}:".encode() + data)

    def add(self, value: Any) -> None:
        if isinstance(value, PLAIN):
            self.say(type(value).__name__, repr(value))
            return
        if id(value) in self.met:
            self.say("met", str(self.met[id(value)]))
            return
        self.met[id(value)] = len(self.met)
        self.alive.append(value)
        self.depth += 1
        if self.depth > DEEPEST:
            self.say("deep", type(value).__qualname__)
        else:
            self._add(value)
        self.depth -= 1

    def _add(self, value: Any) -> None:
        if isinstance(value, np.ndarray):
            self._array(value)
        elif isinstance(value, np.generic):
            self.say("number", value.dtype.str, repr(value.item()))
        elif isinstance(value, list | tuple):
            self._all(type(value).__name__, value)
        elif isinstance(value, set | frozenset):
            self._all("set", sorted(digest_of(part) for part in value))
        elif isinstance(value, Mapping):
            self.say("mapping", str(len(value)))
            for key, part in value.items():
                self.add(key)
                self.add(part)
        elif isinstance(value, types.ModuleType):
            self.say("module", value.__name__, str(getattr(value, "__version__", "")))
        elif isinstance(value, type):
            self._class(value)
        else:
            self._called_or_kept(value)

    def _called_or_kept(self, value: Any) -> None:
        if isinstance(value, types.FunctionType):
            self._function(value)
        elif isinstance(value, types.CodeType):
            self._code(value)
        elif isinstance(value, types.MethodType):
            self._all("method", (value.__func__, value.__self__))
        elif isinstance(value, functools.partial):
            self._all("partial", (value.func, value.args, value.keywords))
        elif isinstance(value, types.CellType):
            self._cell(value)
        else:
            self._object(value)

    def _all(self, kind: str, items: Any) -> None:
        self.say(kind, str(len(items)))
        for part in items:
            self.add(part)

    def _array(self, array: np.ndarray) -> None:
        self.say("array", array.dtype.str, repr(array.shape))
        if array.dtype.hasobject:
            self._all("items", array.ravel().tolist())
        else:
            self.hash.update(np.ascontiguousarray(array).tobytes())

    def _function(self, function: types.FunctionType) -> None:
        self.say("function")
        self._code(function.__code__)
        self._all("defaults", function.__defaults__ or ())
        self.add(function.__kwdefaults__ or {})
        self._all("closure", function.__closure__ or ())
        names = sorted(_names(function.__code__))
        global_names = function.__globals__
        for name in names:
            if name in global_names:
                self.say("global", name)
                self.add(global_names[name])
                self._attributes(global_names[name], names)

    def _attributes(self, module: Any, names: list[str]) -> None:
        """Add what a function reads of a module that is not a package: ``rates.hurdle``."""
        if not isinstance(module, types.ModuleType) or hasattr(module, "__path__"):
            return
        for name in names:
            attribute = vars(module).get(name)
            own = (
                isinstance(attribute, types.FunctionType)
                and attribute.__module__ == module.__name__
            )
            if own or isinstance(attribute, (*PLAIN, list, tuple, dict, np.ndarray)):
                self.say("of module", name)
                self.add(attribute)

    def _code(self, code: types.CodeType) -> None:
        self.say("code", code.co_code.hex(), repr(code.co_names), repr(code.co_varnames))
        self._all("constants", code.co_consts)

    def _cell(self, cell: types.CellType) -> None:
        try:
            self.add(cell.cell_contents)
        except ValueError:
            self.say("empty")

    def _class(self, kind: type) -> None:
        self.say("class", kind.__module__, kind.__qualname__)
        for name, attribute in sorted(vars(kind).items()):
            if isinstance(attribute, types.FunctionType) and attribute.__module__ == "__main__":
                self.say(name)
                self.add(attribute)

    def _object(self, value: Any) -> None:
        kind = type(value)
        self.say("object", kind.__module__, kind.__qualname__)
        if callable(value):
            self._class_functions(kind)
        state = _state(value)
        if state is not None:
            self.add(state)
            return
        try:
            self.hash.update(pickle.dumps(value))
        except Exception:  # whatever an object of the user makes of it
            self.say("cannot be read")

    def _class_functions(self, kind: type) -> None:
        call = getattr(kind, "__call__", None)  # noqa: B004  # the function itself
        if isinstance(call, types.FunctionType):
            self.add(call)


def _names(code: types.CodeType) -> set[str]:
    """Return the names that a function and those inside it read."""
    inner = (
        code_inside for code_inside in code.co_consts if isinstance(code_inside, types.CodeType)
    )
    return set(code.co_names).union(*(_names(code_inside) for code_inside in inner))


def _state(value: Any) -> Any:
    """Return what an object keeps, by name: what it would be pickled with; None where nothing shows
    it. What a dataclass has worked out since it was made does not count.
    """
    own = getattr(type(value), "__getstate__", None)
    if own is not None and own is not getattr(object, "__getstate__", None):
        return value.__getstate__()
    if is_dataclass(value):
        return {stated.name: getattr(value, stated.name, None) for stated in fields(value)}
    slots = [name for kind in type(value).__mro__ for name in getattr(kind, "__slots__", ())]
    kept = {name: getattr(value, name) for name in slots if hasattr(value, name)}
    if hasattr(value, "__dict__"):
        kept |= vars(value)
    return kept or None
