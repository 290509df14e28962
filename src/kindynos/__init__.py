"""Kindynos: decisions under uncertainty. Model, simulate, and read risk with its sampling error.

    import kindynos as kd

Names are loaded when first used, so that importing the package is quick.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from kindynos import plots as plots
    from kindynos.distributions import Beta as Beta
    from kindynos.distributions import Discrete as Discrete
    from kindynos.distributions import Distribution as Distribution
    from kindynos.distributions import LogNormal as LogNormal
    from kindynos.distributions import Normal as Normal
    from kindynos.distributions import Pert as Pert
    from kindynos.distributions import Triangular as Triangular
    from kindynos.distributions import Uniform as Uniform
    from kindynos.errors import FileError as FileError
    from kindynos.errors import FormulaError as FormulaError
    from kindynos.errors import KindynosError as KindynosError
    from kindynos.errors import ModelError as ModelError
    from kindynos.errors import ParameterError as ParameterError
    from kindynos.errors import RunError as RunError
    from kindynos.errors import StoppedError as StoppedError
    from kindynos.finance.cash_flow import grow as grow
    from kindynos.finance.cash_flow import npv as npv
    from kindynos.finance.irr import IrrReport as IrrReport
    from kindynos.finance.irr import irr as irr
    from kindynos.finance.irr import irr_report as irr_report
    from kindynos.model.file import load_model as load_model
    from kindynos.model.model import Model as Model
    from kindynos.results.estimate import Estimate as Estimate
    from kindynos.results.estimate import Estimates as Estimates
    from kindynos.results.result import Result as Result
    from kindynos.results.run import Run as Run

__version__ = "0.1.0"

_HOMES = {
    "distributions": "Beta Discrete Distribution LogNormal Normal Pert Triangular Uniform",
    "errors": "FileError FormulaError KindynosError ModelError ParameterError RunError StoppedError",
    "finance.cash_flow": "grow npv",
    "finance.irr": "IrrReport irr irr_report",
    "model.file": "load_model",
    "model.model": "Model",
    "plots": "plots",
    "results.estimate": "Estimate Estimates",
    "results.result": "Result",
    "results.run": "Run",
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names.split()}

__all__ = [*_HOME_OF, "__version__"]  # noqa: PLE0604


def __getattr__(name: str) -> Any:
    if name not in _HOME_OF:
        raise AttributeError(f"module 'kindynos' has no attribute {name!r}")
    module = import_module(f"kindynos.{_HOME_OF[name]}")
    value = module if name == "plots" else getattr(module, name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted([*globals(), *_HOME_OF])
