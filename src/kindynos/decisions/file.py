"""Reading a decision from a TOML file. No code in it is ever executed."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from kindynos.decisions.decision import Decision
from kindynos.decisions.tree import Choice, Event, EventTest, ModelOutcome, Pay
from kindynos.distributions.registry import distribution_from
from kindynos.errors import FileError, KindynosError, ParameterError
from kindynos.tables.toml import read_toml
from kindynos.validate import checked, instance

HEAD = ("name", "unit", "better", "score", "risk_tolerance", "given", "criteria", "alternatives")
PART = (
    *("pay", "payoff", "event", "outcomes", "choice", "alternatives", "chance"),
    *("test", "of", "signals", "then", "after"),
)


@checked
def load_decision(path: str | Path) -> Decision:
    """Return the decision in a TOML file, under ``[decision]``; raises FileError with the place of
    what is wrong.

    >>> from kindynos import demo_file
    >>> load_decision(demo_file("lease_or_buy.toml")).name
    'Night ferry'
    """
    instance("path", path, (str, Path), "the path of a file")
    path = Path(path)
    document = read_toml(path)
    try:
        return decision_of(document, path.parent)
    except KindynosError as error:
        raise FileError(str(error), file=str(path)) from None


def decision_of(document: Mapping[str, Any], folder: Path) -> Decision:
    """Return the decision that a document states; models that it names are looked for in the
    folder.
    """
    head = document.get("decision")
    if not isinstance(head, Mapping):
        raise ParameterError("has no table [decision]")
    _known(head, HEAD, "[decision]")
    for key in ("name", "alternatives"):
        if key not in head:
            raise ParameterError(f"the key {key!r} is missing")
    given = {
        name: _amount(value, f"[decision.given] {name}", folder)
        for name, value in head.get("given", {}).items()
    }
    alternatives = {
        name: _part(table, f"[decision.alternatives.{name}]", folder, "criteria" in head)
        for name, table in _tables(head["alternatives"]).items()
    }
    options = {
        key: head[key] for key in ("unit", "better", "score", "risk_tolerance") if key in head
    }
    return Decision(head["name"], alternatives, given, head.get("criteria", {}), **options)


def _tables(value: Any) -> Mapping[str, Any]:
    if not isinstance(value, Mapping):
        raise ParameterError(f"must be tables by name, not {value!r:.40}")
    return value


def _known(table: Mapping[str, Any], keys: tuple[str, ...], where: str) -> None:
    for key in table:
        if key not in keys:
            raise ParameterError(f"no key {key!r}", owner=where, unknown=key, known=keys)


def _part(table: Any, where: str, folder: Path, criteria: bool) -> Any:
    """Return a part of the tree: a payoff, an event or a choice, with what is paid before it."""
    if not isinstance(table, Mapping) or {"model", "distribution", "percentiles"} & set(table):
        return _amount(table, where, folder)
    if criteria and table and not set(table) & set(PART):  # an amount by criterion
        return _amount(table, where, folder)
    _known(table, PART, where)
    kinds = [key for key in ("payoff", "event", "choice", "test") if key in table]
    if len(kinds) != 1:
        raise ParameterError("must have one of payoff, event, choice and test", owner=where)
    if kinds == ["payoff"]:
        node: Any = _amount(table["payoff"], where, folder)
    elif kinds == ["event"]:
        outcomes = {}
        for name, item in _tables(table.get("outcomes", {})).items():
            if not isinstance(item, Mapping) or "chance" not in item:
                raise ParameterError(f"outcome {name!r} needs its chance", owner=where)
            outcomes[name] = (
                _amount(item["chance"], where, folder),
                _part(item, f"{where} {name}", folder, criteria),
            )
        node = Event(table["event"], outcomes)
    elif kinds == ["test"]:
        node = _test(table, where, folder, criteria)
    else:
        inner = _tables(table.get("alternatives", {}))
        node = Choice(
            table["choice"],
            {
                name: _part(item, f"{where} {name}", folder, criteria)
                for name, item in inner.items()
            },
        )
    return Pay(_amount(table["pay"], where, folder), node) if "pay" in table else node


def _test(table: Mapping[str, Any], where: str, folder: Path, criteria: bool) -> EventTest:
    """Return a test of an event: what follows is in ``then``, or by signal in ``after``."""
    for key in ("of", "signals"):
        if key not in table:
            raise ParameterError(f"a test needs the key {key!r}", owner=where)
    if ("then" in table) == ("after" in table):
        raise ParameterError("a test needs then, or after by signal", owner=where)
    if "then" in table:
        then: Any = _part(table["then"], f"{where} then", folder, criteria)
    else:
        after = _tables(table["after"])
        missing = [signal for signal in _tables(table["signals"]) if signal not in after]
        if missing:
            raise ParameterError(f"nothing follows the signal {missing[0]!r}", owner=where)
        then = {
            signal: _part(item, f"{where} after {signal}", folder, criteria)
            for signal, item in after.items()
        }
    return EventTest(table["test"], table["of"], table["signals"], then)


def _amount(value: Any, where: str, folder: Path) -> Any:
    """Return an amount: a number, a formula, a distribution, a model's outcome, or a table of these
    by criterion.
    """
    if not isinstance(value, Mapping):
        return float(value) if isinstance(value, int) and not isinstance(value, bool) else value
    table = dict(value)
    if "distribution" in table or isinstance(table.get("percentiles"), Mapping):
        return distribution_from(table.pop("distribution", None), table)
    if "model" in table:
        from kindynos.model.file import load_model

        _known(table, ("model", "outcome", "set"), where)
        if "outcome" not in table:
            raise ParameterError(
                "a model needs the outcome that counts: outcome = ...", owner=where
            )
        model = load_model(folder / str(table["model"]))
        return ModelOutcome(model.replace(**table.get("set", {})), str(table["outcome"]))
    return {key: _amount(item, f"{where} {key}", folder) for key, item in table.items()}
