"""The docstrings of distributions: each states what it is, and parameters, formula and source
follow from its class.
"""

from __future__ import annotations

import inspect

PARAMETERS = {
    "a": "A shape, above 0; of Johnson's distribution any number.",
    "b": "A shape, above 0.",
    "bandwidth": "The sd of each kernel, in the unit of the values; None: Silverman's rule.",
    "count": "The distribution of the number of summands.",
    "df": "The degrees of freedom.",
    "drawn": "How many are drawn.",
    "edges": "The ends of the bins, in ascending order, in the unit of the figure.",
    "factor": "What the inner figure is multiplied by; not 0.",
    "high": "The upper end, in the unit of the figure.",
    "inner": "The distribution that is changed.",
    "location": "Where the distribution lies, in the unit of the figure.",
    "low": "The lower end, in the unit of the figure.",
    "marked": "How many of the population are marked.",
    "mean": "The expected value, in the unit of the figure.",
    "mode": "The likeliest value, in the unit of the figure.",
    "parts": "The distributions of which each draw comes from one.",
    "percentiles": "Values by percentile, from 0 to 100.",
    "population": "How many there are.",
    "probabilities": "The chance of each value; they add up to 1.",
    "probability": "The chance of a success, from 0 to 1.",
    "scale": "How wide the distribution is, in the unit of the figure; above 0.",
    "sd": "The standard deviation, in the unit of the figure; above 0.",
    "shape": "The shape, a number without a unit.",
    "shift": "What is added, in the unit of the figure.",
    "size": "The distribution of each summand.",
    "steps": "Whether the cdf rises in steps at the values, or in straight lines between them.",
    "successes": "The number of successes that are waited for; above 0.",
    "trials": "The number of independent trials.",
    "values": "The values, in the unit of the figure.",
    "weight": "How much the likeliest value counts against the ends.",
    "weights": "The weight of each; None: all alike. They need not add up to 1.",
}


def documented(distribution: type) -> tuple[str, str]:
    """Return the description of a distribution, and its docstring with all sections."""
    text, prompt, example = inspect.cleandoc(distribution.__doc__ or "").partition(">>>")
    words, _, source = text.strip().partition("Source:")
    parameters = [
        f"{name} : {kind}\n    {PARAMETERS[name]}"
        for name, kind in distribution.__annotations__.items()
        if name in PARAMETERS
    ]
    sections = {
        "Parameters": "\n".join(parameters),
        "Raises": "ParameterError\n    For a parameter that its rule forbids.",
        "Notes": distribution.formula,  # type: ignore[attr-defined]
        "References": " ".join(source.split()),
        "Examples": prompt + example,
    }
    titled = [f"{title}\n{'-' * len(title)}\n{body}" for title, body in sections.items() if body]
    return text.strip(), "\n\n".join([words.strip(), *titled]) + "\n"
