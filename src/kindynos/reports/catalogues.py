"""The distributions and processes that there are, and what one of them says of itself."""

from __future__ import annotations

import math
from dataclasses import fields
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from kindynos.distributions.base import Distribution
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.registry import parameter_names
from kindynos.formatting import brief, shares
from kindynos.processes.base import Process
from kindynos.processes.documentation import PARAMETERS
from kindynos.processes.registry import PROCESSES
from kindynos.processes.series import InPeriods
from kindynos.reports.tables import FigureTable, Words, table_of
from kindynos.results.figures import PERCENTILES


def catalogue() -> FigureTable:
    """Return the distributions by name, with their parameters and what each is good for."""
    table = table_of("Distributions", "name", Words("parameters"), Words("good for"))
    for name, distribution in CATALOGUE.items():
        table.add_row(name, ", ".join(parameter_names(distribution)), distribution.use)
    return table


def processes() -> FigureTable:
    """Return the processes by name, with their parameters and what each is good for."""
    table = table_of(
        "Processes, for drivers that are a series", "name", Words("parameters"), Words("good for")
    )
    for name, process in PROCESSES.items():
        table.add_row(name, ", ".join(process_parameters(process)), process.use)
    return table


def process_parameters(process: type[Process]) -> list[str]:
    """Return the names of a process's parameters, as a model file states them."""
    kind: Any = process  # every process is a dataclass, which the base class cannot say
    return [field.name for field in fields(kind) if not field.kw_only]


def about_process(process: type[Process]) -> list[RenderableType]:
    """Return what a process's documentation says, its parameters, and how a model file states
    it.
    """
    head = f"{process.label}\n{process.about.replace('``', '')}\n\nGood for: {process.use}."
    table = table_of("Parameters", "", Words(""))
    names = process_parameters(process)
    for name in names:
        table.add_row(name, PARAMETERS.get(name, ""))
    time = (
        "Each period of the model is one of its periods."
        if issubclass(process, InPeriods)
        else "Drift, volatility, speed and rates are per unit of time, and a period of the model "
        "is dt of these units long, by default 1: in a monthly model, figures a year go with "
        "dt = 0.0833333."
    )
    keys = "\n".join(f"{name} = ..." for name in names)
    return [
        Text(head),
        "",
        table,
        "",
        Text(time),
        "",
        Text(f'In a model file:\n\n[drivers.NAME]\nprocess = "{process.label}"\n{keys}'),
    ]


def about_distribution(distribution: type[Distribution]) -> Text:
    """Return what a distribution's documentation says, and how a model file states it."""
    description = distribution.about.replace("``", "")
    keys = "\n".join(f"{name} = ..." for name in parameter_names(distribution))
    head = f"{distribution.label}\n{description}\n\nGood for: {distribution.use}."
    return Text(
        f"{head}\n\nIn a model file:\n\n[drivers.NAME]\ndistribution = "
        f'"{distribution.label}"\n{keys}'
    )


def distribution_figures(distribution: Distribution, mark: float | None) -> FigureTable:
    """Return a distribution's mean, sd, skewness, support, percentiles, and the chances on either
    side of a mark.
    """
    table = table_of(repr(distribution), "", "value")
    for label, value in (
        ("mean", distribution.mean),
        ("standard deviation", distribution.sd),
        ("skewness", distribution.skewness),
    ):
        table.add_row(label, "does not exist" if math.isnan(value) else brief(value))
    for label, end in zip(
        ("lowest possible", "highest possible"), distribution.support, strict=True
    ):
        table.add_row(label, brief(end) if math.isfinite(end) else "no limit")
    for q in PERCENTILES:
        table.add_row(f"P{q}", brief(float(distribution.percentile(q))))
    if mark is not None:
        chances = (
            distribution.chance(below=mark),
            distribution.chance(at=mark),
            distribution.chance(above=mark),
        )
        for label, share in zip(("below", "at", "above"), shares(list(chances), 2), strict=True):
            table.add_row(f"chance {label} {brief(mark)}", share)
    return table
