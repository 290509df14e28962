"""Reading a decision from a TOML file. No code in it is ever executed."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kindynos.decisions.decision import Decision
from kindynos.decisions.tree import Choice, Event, EventTest, ModelOutcome, Pay
from kindynos.distributions.registry import distribution_from
from kindynos.errors import FileError, KindynosError, Mistakes, ParameterError
from kindynos.tables.toml import read_toml
from kindynos.validate import checked, instance

if TYPE_CHECKING:
    from pydantic import BaseModel

HEAD_OPTIONS = ("unit", "better", "score", "risk_tolerance")


@checked
def load_decision(path: str | Path) -> Decision:
    """Return the decision in a TOML file, under ``[decision]``; raises FileError for the mistakes
    in it, all at once, each with its place.

    >>> from kindynos import demo_file
    >>> load_decision(demo_file("lease_or_buy.toml")).name
    'Night ferry'
    """
    instance("path", path, (str, Path), "the path of a file")
    path = Path(path)
    return _DecisionReader(path).decision(read_toml(path))


class _DecisionReader:
    """Turns a document into a decision and collects the mistakes on the way, each with its place;
    models that it names are looked for in the folder of the file. Where a part of the tree has a
    mistake, 0 stands for it until all are known.
    """

    def __init__(self, path: Path) -> None:
        self.folder = path.parent
        self.mistakes = Mistakes(str(path))
        self.has_criteria = False

    def decision(self, document: Mapping[str, Any]) -> Decision:
        """Return the decision; raises FileError for all the mistakes."""
        from kindynos.decisions.schema import DecisionHead

        head = document.get("decision")
        if not isinstance(head, Mapping):
            raise FileError("has no table [decision]", file=self.mistakes.file)
        self._check_keys(head, DecisionHead, "[decision]")
        for key in ("name", "alternatives"):
            if key not in head:
                with self.mistakes.at():
                    raise ParameterError(f"the key {key!r} is missing", table="[decision]")
        self.has_criteria = "criteria" in head
        given = {}
        for name, value in self._tables(head.get("given", {}), "[decision.given]"):
            with self.mistakes.at():
                given[name] = self._amount(value, f"[decision.given] {name}")
        named = self._tables(head.get("alternatives", {}), "[decision.alternatives]")
        alternatives = {
            name: self._part(table, f"[decision.alternatives.{name}]") for name, table in named
        }
        self.mistakes.report()
        options = {key: head[key] for key in HEAD_OPTIONS if key in head}
        try:
            return Decision(head["name"], alternatives, given, head.get("criteria", {}), **options)
        except KindynosError as error:
            raise FileError.of(error, file=self.mistakes.file) from None

    def _tables(self, tables: Any, where: str) -> list[tuple[str, Any]]:
        """Return what stands by name; what does not is a mistake."""
        with self.mistakes.at():
            if not isinstance(tables, Mapping):
                raise ParameterError(f"must be tables by name, not {tables!r:.40}", table=where)
            return list(tables.items())
        return []

    def _check_keys(self, table: Mapping[str, Any], kind: type[BaseModel], where: str) -> None:
        """Collect each key that a kind of table does not have."""
        keys = kind.model_fields
        for key in table:
            if key not in keys:
                with self.mistakes.at():
                    raise ParameterError(f"no key {key!r}", table=where, unknown=key, known=keys)

    def _part(self, table: Any, where: str) -> Any:
        """Return a part of the tree, or 0 where there is a mistake in it."""
        before = len(self.mistakes.collected)
        with self.mistakes.at():
            make, arguments = self._stated(table, where)
            if len(self.mistakes.collected) == before:
                return make(*arguments)
        return 0.0

    def _stated(self, table: Any, where: str) -> tuple[Callable[..., Any], tuple[Any, ...]]:
        """Return what makes a part of the tree (an amount, a payoff, an event, a choice or a test,
        with what is paid before it), and from what.
        """
        from kindynos.decisions.schema import Part

        keys = set(table) if isinstance(table, Mapping) else set()
        if not keys or {"model", "distribution", "percentiles"} & keys:
            return self._amount, (table, where)
        if self.has_criteria and not keys & set(Part.model_fields):  # an amount by criterion
            return self._amount, (table, where)
        self._check_keys(table, Part, where)
        kinds = [key for key in ("payoff", "event", "choice", "test") if key in table]
        if len(kinds) != 1:
            raise ParameterError("must have one of payoff, event, choice and test", table=where)
        if "pay" in table:
            rest = {key: value for key, value in table.items() if key != "pay"}
            return Pay, (self._amount(table["pay"], where), self._part(rest, where))
        if kinds == ["payoff"]:
            return self._amount, (table["payoff"], where)
        if kinds == ["event"]:
            return Event, (table["event"], self._outcomes(table, where))
        if kinds == ["test"]:
            return EventTest, self._test(table, where)
        return Choice, (table["choice"], self._parts(table.get("alternatives", {}), where))

    def _parts(self, tables: Any, where: str) -> dict[str, Any]:
        """Return the parts of the tree that tables hold by name."""
        return {
            name: self._part(table, f"{where} {name}")
            for name, table in self._tables(tables, where)
        }

    def _outcomes(self, table: Mapping[str, Any], where: str) -> dict[str, tuple[Any, Any]]:
        """Return the outcomes of an event: the chance of each, and what follows."""
        outcomes = {}
        for name, outcome in self._tables(table.get("outcomes", {}), where):
            with self.mistakes.at():
                if not isinstance(outcome, Mapping) or "chance" not in outcome:
                    raise ParameterError(f"outcome {name!r} needs its chance", table=where)
                chance = self._amount(outcome["chance"], where)
                rest = {key: value for key, value in outcome.items() if key != "chance"}
                outcomes[name] = (chance, self._part(rest, f"{where} {name}"))
        return outcomes

    def _test(self, table: Mapping[str, Any], where: str) -> tuple[Any, ...]:
        """Return what a test of an event is made from: what follows is in ``then``, or by signal in
        ``after``.
        """
        for key in ("of", "signals"):
            if key not in table:
                raise ParameterError(f"a test needs the key {key!r}", table=where)
        if ("then" in table) == ("after" in table):
            raise ParameterError("a test needs then, or after by signal", table=where)
        about = (table["test"], table["of"], table["signals"])
        if "then" in table:
            return *about, self._part(table["then"], f"{where} then")
        after = self._parts(table["after"], f"{where} after")
        for signal, _ in self._tables(table["signals"], where):
            if signal not in after:
                raise ParameterError(f"nothing follows the signal {signal!r}", table=where)
        return *about, after

    def _amount(self, value: Any, where: str) -> Any:
        """Return an amount: a number, a formula, a distribution, a model's outcome, or a table of
        these by criterion.
        """
        if not isinstance(value, Mapping):
            return float(value) if isinstance(value, int) and not isinstance(value, bool) else value
        table = dict(value)
        if "distribution" in table or isinstance(table.get("percentiles"), Mapping):
            return distribution_from(table.pop("distribution", None), table)
        if "model" in table:
            return self._of_model(table, where)
        return {key: self._amount(amount, f"{where} {key}") for key, amount in table.items()}

    def _of_model(self, table: Mapping[str, Any], where: str) -> ModelOutcome:
        """Return an outcome of a model file, with figures replaced."""
        from kindynos.decisions.schema import ModelAmount
        from kindynos.model.file import load_model

        self._check_keys(table, ModelAmount, where)
        if "outcome" not in table:
            raise ParameterError(
                "a model needs the outcome that counts: outcome = ...", table=where
            )
        model = load_model(self.folder / str(table["model"]))
        return ModelOutcome(model.replace(**table.get("set", {})), str(table["outcome"]))
