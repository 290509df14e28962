"""Docstrings in sections: a class states what it is, and its parameters, formula, source and
example follow under their headings.
"""

from __future__ import annotations

import inspect
from collections.abc import Mapping


def documented(kind: type, formula: str, meanings: Mapping[str, str]) -> tuple[str, str]:
    """Return the description of a class of parameters, and its docstring with all sections.

    ``meanings`` say what each parameter is, by name.
    """
    text, prompt, example = inspect.cleandoc(kind.__doc__ or "").partition(">>>")
    words, _, source = text.strip().partition("Source:")
    annotations: dict[str, str] = {}
    for parent in reversed(kind.__mro__):  # a form of another class has the parameters of that
        annotations |= vars(parent).get("__annotations__", {})
    parameters = [
        f"{name} : {annotation}\n    {meanings[name]}"
        for name, annotation in annotations.items()
        if name in meanings
    ]
    sections = {
        "Parameters": "\n".join(parameters),
        "Raises": "ParameterError\n    For a parameter that its rule forbids.",
        "Notes": f"``{formula}``" if formula else "",
        "References": " ".join(source.split()),
        "Examples": prompt + example,
    }
    titled = [f"{title}\n{'-' * len(title)}\n{body}" for title, body in sections.items() if body]
    return text.strip(), "\n\n".join([words.strip(), *titled]) + "\n"
