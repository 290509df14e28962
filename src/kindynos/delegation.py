"""Methods whose work is done in a higher layer.

``distribution.plot()`` and ``run.save()`` are where a user looks for them, and yet pictures and
files lie above distributions and runs, which must not import them. Such a method states its
signature and its docstring, and names here the function that does the work; that function gets the
same arguments, and its module is loaded at the first call. ``[tool.kindynos.upward]`` in
pyproject.toml lists the calls that go up a layer, and ``make check`` holds that list.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from importlib import import_module
from typing import ParamSpec, TypeVar

Arguments = ParamSpec("Arguments")
Answer = TypeVar("Answer")


def delegated_to(
    module: str, function: str
) -> Callable[[Callable[Arguments, Answer]], Callable[Arguments, Answer]]:
    """Return a decorator that replaces the body of a method by a call of ``module.function``."""

    def decorate(method: Callable[Arguments, Answer]) -> Callable[Arguments, Answer]:
        @wraps(method)
        def call(*arguments: Arguments.args, **options: Arguments.kwargs) -> Answer:
            answer: Answer = getattr(import_module(module), function)(*arguments, **options)
            return answer

        return call

    return decorate
