"""Runs and checks as a terminal shows them."""

from __future__ import annotations

import inspect
import math
from collections.abc import Iterable

import numpy as np
import pandas as pd
from rich import box
from rich.console import Console, Group, RenderableType
from rich.markup import escape
from rich.table import Table
from rich.text import Text

from kindynos.distributions import CATALOGUE, Distribution
from kindynos.distributions.registry import parameter_names
from kindynos.estimate import Estimate
from kindynos.model.program import Program
from kindynos.model.quantities import Driver
from kindynos.model.review import Finding
from kindynos.reports.figures import brief, number, per_cent, shares, step_of, with_error
from kindynos.results.result import Result
from kindynos.results.run import Run

PERCENTILES = (1, 5, 10, 25, 50, 75, 90, 95, 99)


def console(width: int | None = None) -> Console:
    """Return the console for standard output; plain text where that is no terminal."""
    from sys import stdout

    plain = Console(highlight=False, soft_wrap=False)
    return plain if stdout.isatty() else Console(highlight=False, width=width or 110)


def run_report(run: Run) -> Group:
    """Return all outcomes of a run, their drivers, and how it was made."""
    parts: list[RenderableType] = [
        Text.assemble((run.name, "bold"), f": {run.size:,} trials, {run.facts()['sampling']} plan, seed {run.seed}")
    ]
    for name in run.outcomes:
        parts += ["", _row_table(run, name) if run[name].is_row else _outcome(run, name)]
        if not run[name].is_row and run.drivers:
            parts += ["", _ranking(run, name)]
    parts += ["", *_closing(run)]
    return Group(*parts)


def table_of(title: str, *columns: tuple[str, str]) -> Table:
    """Return an empty table with a title and columns, each with its side."""
    table = Table(title=escape(title), title_justify="left", title_style="bold", box=box.SIMPLE_HEAD, pad_edge=False)
    for header, justify in columns:
        table.add_column(header, justify="right" if justify == "right" else "left", overflow="fold")
    return table


def _title(result: Result) -> str:
    unit = f", {result.unit}" if result.unit else ""
    target = f", target {number(result.target)}" if result.target is not None else ""
    return f"{result.name}{unit}{target}"


def _outcome(run: Run, name: str) -> Table:
    result = run[name]
    table = table_of(_title(result), ("", "left"), ("value", "right"), ("95 % error", "right"), ("", "left"))
    base = float(result.base)
    step = step_of(result.mean.error)
    table.add_row("base case", number(base, step), "", "every driver at its base value")
    place = result.percentile_of(base)
    table.add_row("base case's percentile", *with_error(place), f"{per_cent(place / 100, 0)} of the trials lie below it")
    table.add_row("mean", *with_error(result.mean), "")
    table.add_row("standard deviation", *with_error(result.sd), "")
    for q in PERCENTILES:
        table.add_row(f"P{q}", *with_error(result.percentile(q)), f"{q} % of the trials lie below" if q == 5 else "")
    for word, figure in (("lowest", result.lowest), ("highest", result.highest)):
        table.add_row(f"{word} trial", number(figure, step), "", f"{figure.note}, not the {_limit(word)} possible")
    for row in _chances(result):
        table.add_row(*row)
    if result.bad:
        table.add_row("without a value", f"{result.bad:,}", "", f"of {result.trials:,} trials; left out above")
    for text, count in run.notes(name).items():
        table.add_row(text, f"{count:,}", "", f"of {result.trials:,} trials")
    return table


def _limit(word: str) -> str:
    return "worst" if word == "lowest" else "best"


def _chances(result: Result) -> list[tuple[str, str, str, str]]:
    """Return the chances on either side of the target; as printed they add up to 100 %, with the failed trials."""
    if result.target is None:
        return []
    target = number(result.target)
    found: list[tuple[str, Estimate]] = [
        (f"chance below {target}", result.chance(below=result.target)),
        (f"chance at {target}", result.chance(at=result.target)),
        (f"chance above {target}", result.chance(above=result.target)),
    ]
    failed = result.bad / result.trials
    texts = shares([*[float(chance) for _, chance in found], failed])
    rows = []
    for (word, chance), text in zip(found, texts, strict=False):
        if word.startswith("chance at") and float(chance) == 0:
            continue
        error = "" if math.isnan(chance.error) else f"± {100 * chance.error:.1f} %"
        note = "" if math.isnan(chance.error) else f"95 % interval {100 * chance.low:.1f} to {100 * chance.high:.1f} %"
        rows.append((word, text, error, note))
    if failed:
        rows.append(("chance of no value", texts[-1], "", ""))
    return rows


def _row_table(run: Run, name: str) -> Table:
    result = run[name]
    table = table_of(
        _title(result), ("period", "left"), *((word, "right") for word in ("base", "mean", "95 % error", "P5", "P50", "P95"))
    )
    percentiles = result.percentile([5, 50, 95])
    for period, label in enumerate(result.labels):
        mean = result.mean[period]
        step = step_of(mean.error)
        figures = [with_error(percentiles[i][period])[0] for i in range(3)]
        base = result.base[period]
        table.add_row(label, number(float(base), step), *with_error(mean), *figures)
    return table


def _ranking(run: Run, name: str) -> Table:
    frame = run.sensitivity(name)
    table = table_of(
        f"What moves {name}",
        ("driver", "left"),
        ("rank correlation", "right"),
        ("95 % error", "right"),
        ("share of variance", "right"),
    )
    texts = shares(frame["share of variance"].tolist())
    for (driver, row), text in zip(frame.iterrows(), texts, strict=True):
        error = f"± {row['error']:.3f}" if row["error"] == row["error"] else ""
        table.add_row(str(driver), f"{row['rank correlation']:+.3f}", error, text)
    return table


def _closing(run: Run) -> list[RenderableType]:
    facts = run.facts()
    lines = ["The 95 % error is how far a figure may be off because trials are drawn at random; it is no range of outcomes."]
    if run.size < 200:
        lines = [f"{run.size} trials are too few to say how far off these figures are: at least 200 are needed."]
    lines += [f"Rounded up {facts['rounded up']}."] if facts["rounded up"] else []
    lines += [f"Partial: {facts['partial']}."] if facts["partial"] else []
    lines += [f"{aim}: {met}." for aim, met in facts["aims"].items()]
    for row in facts["correlations"]:
        asked = "" if row["asked"] is None or row["asked"] != row["asked"] else f", asked {row['asked']:g}"
        what = f"{row['kind']} correlation {row['reached']:.3f} reached{asked} ({row['copula']} copula)"
        lines.append(f"{row['first']} with {row['second']}: {what}.")
    lines += [f"Repaired, since the correlations asked for cannot all be: {text}." for text in facts["repaired"]]
    lines += [f"Assumed independent: {text}." for text in facts["assumed independent"]]
    lines += [f"{name} has no value in some trials; the first is {text}." for name, text in facts["first bad"].items()]
    return [Text(line, style="dim") for line in lines]


def sheet_table(title: str, frame: pd.DataFrame, units: dict[str, str | None]) -> Table:
    """Return a sheet of one case; of many periods the first ones and the last."""
    labels = list(frame.columns[1:])
    shown = labels if len(labels) <= 6 else [*labels[:4], labels[-1]]
    columns = [(str(label), "right") for label in shown]
    if len(shown) < len(labels):
        columns.insert(4, ("...", "right"))
    has_numbers = bool(frame["value"].notna().any())
    numbers = [("value", "right")] if has_numbers else []
    table = table_of(title, ("quantity", "left"), ("unit", "left"), *numbers, *columns)
    for name, row in frame.iterrows():
        cells = [brief(float(row[label])) if row[label] == row[label] else "" for label in shown]
        if len(shown) < len(labels):
            cells.insert(4, "..." if cells[0] else "")
        value = [brief(float(row["value"])) if row["value"] == row["value"] else "" if any(cells) else "-"]
        table.add_row(str(name), units.get(str(name)) or "", *(value if has_numbers else []), *cells)
    return table


def drivers_table(program: Program) -> Table:
    """Return each driver's law in words: parameters, mean, percentiles, the chance of being negative, and its source."""
    based = any(driver.base is not None for driver in program.drivers.values())
    columns = [
        ("driver", "left"),
        ("law", "left"),
        ("each", "left"),
        *([("base", "right")] if based else []),
        ("mean", "right"),
    ]
    more = [("P5", "right"), ("P50", "right"), ("P95", "right"), ("below 0", "right"), ("source", "left")]
    table = table_of("Drivers", *columns, *more)
    for name, driver in program.drivers.items():
        if driver.process is not None:
            table.add_row(
                name, escape(repr(driver.process)), "process", *_ends(program, driver, based), escape(driver.source or "-")
            )
            continue
        law = driver.law
        figures = [*([driver.base_value(0)] if based else []), law.mean, *(float(law.percentile(q)) for q in (5, 50, 95))]
        below = law.chance(below=0)
        each, said = driver.each or "trial", per_cent(below) if below > 0 else "never"
        table.add_row(name, escape(repr(law)), each, *map(brief, figures), said, escape(driver.source or "-"))
    return table


def _ends(program: Program, driver: Driver, based: bool) -> list[str]:
    """Return what a process may be after the last period, as the columns of the drivers' table."""
    assert driver.process is not None
    ends = driver.process.paths(program.periods, 4_000, 0, driver.dt)[-1]
    base = [float(np.atleast_2d(driver.base_value(program.periods))[-1, 0])] if based else []
    below = float((ends < 0).mean())
    figures = [*base, float(ends.mean()), *np.percentile(ends, [5, 50, 95]).tolist()]
    return [*map(brief, figures), per_cent(below) if below > 0 else "never"]


def givens_table(program: Program) -> Table:
    """Return the given figures with unit and source."""
    table = table_of("Given", ("figure", "left"), ("value", "right"), ("unit", "left"), ("source", "left"))
    for name, given in program.givens.items():
        value = given.value
        word = "pairs" if given.kind.table else "periods"
        shown = f"{len(value)} {word}" if isinstance(value, tuple) else number(value)
        table.add_row(name, shown, escape(given.unit or ""), escape(given.source or "-"))
    return table


def catalogue() -> Table:
    """Return the distributions by name, with their parameters and what each is good for."""
    table = table_of("Distributions", ("name", "left"), ("parameters", "left"), ("good for", "left"))
    for name, law in CATALOGUE.items():
        table.add_row(name, ", ".join(parameter_names(law)), escape(law.use))
    return table


def about_law(law: type[Distribution]) -> Text:
    """Return what a distribution's documentation says, and how a model file states it."""
    said = inspect.cleandoc(law.__doc__ or "").split(">>>")[0].strip().replace("``", "")
    keys = "\n".join(f"{name} = ..." for name in parameter_names(law))
    head = f"{law.label}\n{said}\n\nGood for: {law.use}."
    return Text(f'{head}\n\nIn a model file:\n\n[drivers.NAME]\ndistribution = "{law.label}"\n{keys}')


def law_figures(law: Distribution, mark: float | None) -> Table:
    """Return a law's mean, sd, skewness, support, percentiles, and the chances on either side of a mark."""
    table = table_of(repr(law), ("", "left"), ("value", "right"))
    for word, value in (("mean", law.mean), ("standard deviation", law.sd), ("skewness", law.skewness)):
        table.add_row(word, "does not exist" if math.isnan(value) else brief(value))
    for word, end in zip(("lowest possible", "highest possible"), law.support, strict=True):
        table.add_row(word, brief(end) if math.isfinite(end) else "no limit")
    for q in PERCENTILES:
        table.add_row(f"P{q}", brief(float(law.percentile(q))))
    if mark is not None:
        chances = (law.chance(below=mark), law.chance(at=mark), law.chance(above=mark))
        for word, share in zip(("below", "at", "above"), shares(list(chances), 2), strict=True):
            table.add_row(f"chance {word} {brief(mark)}", share)
    return table


def findings(found: Iterable[Finding]) -> Group:
    """Return what looks wrong, or that nothing does."""
    lines = [Text.assemble(("look at ", "bold"), (finding.name, "bold"), f": {finding.text}") for finding in found]
    return Group(*(lines or [Text("Nothing looks wrong.")]))
