"""Kindynos: decisions under uncertainty. Model, simulate, and read risk with its sampling error.

    import kindynos as kd

Names are loaded when first used, so that importing the package is quick.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from kindynos import plots as plots
    from kindynos.demo import demo_file as demo_file
    from kindynos.dependence.matrices import nearest_correlation as nearest_correlation
    from kindynos.distributions import Affine as Affine
    from kindynos.distributions import Bernoulli as Bernoulli
    from kindynos.distributions import Beta as Beta
    from kindynos.distributions import Binomial as Binomial
    from kindynos.distributions import Cauchy as Cauchy
    from kindynos.distributions import Clipped as Clipped
    from kindynos.distributions import Compound as Compound
    from kindynos.distributions import Discrete as Discrete
    from kindynos.distributions import Distribution as Distribution
    from kindynos.distributions import Empirical as Empirical
    from kindynos.distributions import Exponential as Exponential
    from kindynos.distributions import Gamma as Gamma
    from kindynos.distributions import GeneralizedExtremeValue as GeneralizedExtremeValue
    from kindynos.distributions import GeneralizedPareto as GeneralizedPareto
    from kindynos.distributions import Geometric as Geometric
    from kindynos.distributions import Gumbel as Gumbel
    from kindynos.distributions import Histogram as Histogram
    from kindynos.distributions import Hypergeometric as Hypergeometric
    from kindynos.distributions import IntegerUniform as IntegerUniform
    from kindynos.distributions import InverseGaussian as InverseGaussian
    from kindynos.distributions import JohnsonSU as JohnsonSU
    from kindynos.distributions import KernelDensity as KernelDensity
    from kindynos.distributions import Laplace as Laplace
    from kindynos.distributions import Logistic as Logistic
    from kindynos.distributions import LogLogistic as LogLogistic
    from kindynos.distributions import LogNormal as LogNormal
    from kindynos.distributions import Mixture as Mixture
    from kindynos.distributions import NegativeBinomial as NegativeBinomial
    from kindynos.distributions import Normal as Normal
    from kindynos.distributions import Pareto as Pareto
    from kindynos.distributions import Pert as Pert
    from kindynos.distributions import Poisson as Poisson
    from kindynos.distributions import SkewNormal as SkewNormal
    from kindynos.distributions import StudentT as StudentT
    from kindynos.distributions import StudentTByScale as StudentTByScale
    from kindynos.distributions import Triangular as Triangular
    from kindynos.distributions import Truncated as Truncated
    from kindynos.distributions import Uniform as Uniform
    from kindynos.distributions import Weibull as Weibull
    from kindynos.distributions.opinions import from_percentiles as from_percentiles
    from kindynos.distributions.smooth import SmoothPercentiles as SmoothPercentiles
    from kindynos.distributions.smooth import smooth_percentiles as smooth_percentiles
    from kindynos.engine.precision import Precision as Precision
    from kindynos.errors import DataWarning as DataWarning
    from kindynos.errors import FileError as FileError
    from kindynos.errors import FitWarning as FitWarning
    from kindynos.errors import FormulaError as FormulaError
    from kindynos.errors import GoalError as GoalError
    from kindynos.errors import KindynosError as KindynosError
    from kindynos.errors import ModelError as ModelError
    from kindynos.errors import ParameterError as ParameterError
    from kindynos.errors import RunError as RunError
    from kindynos.errors import StoppedError as StoppedError
    from kindynos.errors import TrialError as TrialError
    from kindynos.estimate import Estimate as Estimate
    from kindynos.estimate import Estimates as Estimates
    from kindynos.finance.annuities import capital_recovery as capital_recovery
    from kindynos.finance.annuities import equivalent_annual as equivalent_annual
    from kindynos.finance.annuities import future_value as future_value
    from kindynos.finance.annuities import levelized_cost as levelized_cost
    from kindynos.finance.annuities import payment as payment
    from kindynos.finance.annuities import present_value as present_value
    from kindynos.finance.cash_flow import npv as npv
    from kindynos.finance.dated import xirr as xirr
    from kindynos.finance.dated import xnpv as xnpv
    from kindynos.finance.falls import compound_growth as compound_growth
    from kindynos.finance.falls import drawdown as drawdown
    from kindynos.finance.falls import drawdown_duration as drawdown_duration
    from kindynos.finance.falls import max_drawdown as max_drawdown
    from kindynos.finance.falls import sharpe_ratio as sharpe_ratio
    from kindynos.finance.falls import sortino_ratio as sortino_ratio
    from kindynos.finance.falls import time_under_water as time_under_water
    from kindynos.finance.falls import volatility as volatility
    from kindynos.finance.irr import irr as irr
    from kindynos.finance.irr import irr_report as irr_report
    from kindynos.finance.ledger import at as at
    from kindynos.finance.ledger import first_period as first_period
    from kindynos.finance.ledger import grow as grow
    from kindynos.finance.ledger import roll_forward as roll_forward
    from kindynos.finance.measures import discounted_payback as discounted_payback
    from kindynos.finance.measures import mirr as mirr
    from kindynos.finance.measures import payback as payback
    from kindynos.finance.measures import profitability_index as profitability_index
    from kindynos.finance.measures import terminal_value as terminal_value
    from kindynos.finance.measures import value_per_share as value_per_share
    from kindynos.finance.rates import IrrReport as IrrReport
    from kindynos.fitting import fit_student as fit_student
    from kindynos.markets.backtest import Backtest as Backtest
    from kindynos.markets.backtest import backtest as backtest
    from kindynos.markets.methods import RiskFigure as RiskFigure
    from kindynos.markets.portfolio import Portfolio as Portfolio
    from kindynos.markets.prices import Prices as Prices
    from kindynos.markets.prices import read_prices as read_prices
    from kindynos.markets.prices import select as select
    from kindynos.markets.returns import Returns as Returns
    from kindynos.markets.returns import returns as returns
    from kindynos.model.file import load_model as load_model
    from kindynos.model.model import Model as Model
    from kindynos.processes import BootstrapReturns as BootstrapReturns
    from kindynos.processes import GeometricBrownianMotion as GeometricBrownianMotion
    from kindynos.processes import JumpDiffusion as JumpDiffusion
    from kindynos.processes import MeanReverting as MeanReverting
    from kindynos.processes import PathSet as PathSet
    from kindynos.processes import Process as Process
    from kindynos.processes import RandomWalk as RandomWalk
    from kindynos.processes import RegimeSwitching as RegimeSwitching
    from kindynos.results.comparison import Comparison as Comparison
    from kindynos.results.comparison import Reported as Reported
    from kindynos.results.comparison import compare as compare
    from kindynos.results.goal import Goal as Goal
    from kindynos.results.result import Result as Result
    from kindynos.results.run import Run as Run
    from kindynos.results.saved import open_run as open_run
    from kindynos.results.sweep import Sweep as Sweep
    from kindynos.results.sweep import sweep as sweep

__version__ = "0.1.0"

_HOMES = {
    "demo": "demo_file",
    "dependence.matrices": "nearest_correlation",
    "distributions": (
        "Affine Bernoulli Beta Binomial Cauchy Clipped Compound Discrete "
        "Distribution Empirical Exponential Gamma GeneralizedExtremeValue GeneralizedPareto Geometric Gumbel "
        "Histogram Hypergeometric IntegerUniform InverseGaussian JohnsonSU KernelDensity Laplace LogLogistic "
        "LogNormal Logistic Mixture NegativeBinomial Normal Pareto Pert Poisson "
        "SkewNormal StudentT StudentTByScale Triangular Truncated Uniform Weibull "
    ),
    "distributions.opinions": "from_percentiles",
    "distributions.smooth": "SmoothPercentiles smooth_percentiles",
    "engine.precision": "Precision",
    "errors": (
        "DataWarning FileError FitWarning FormulaError GoalError KindynosError ModelError ParameterError RunError "
        "StoppedError TrialError"
    ),
    "finance.annuities": "capital_recovery equivalent_annual future_value levelized_cost payment present_value",
    "finance.cash_flow": "npv",
    "finance.dated": "xirr xnpv",
    "finance.falls": (
        "compound_growth drawdown drawdown_duration max_drawdown sharpe_ratio sortino_ratio time_under_water volatility"
    ),
    "finance.irr": "irr irr_report",
    "finance.ledger": "at first_period grow roll_forward",
    "finance.measures": "discounted_payback mirr payback profitability_index terminal_value value_per_share",
    "finance.rates": "IrrReport",
    "fitting": "fit_student",
    "markets.backtest": "Backtest backtest",
    "markets.methods": "RiskFigure",
    "markets.portfolio": "Portfolio",
    "markets.prices": "Prices read_prices select",
    "markets.returns": "Returns returns",
    "model.file": "load_model",
    "model.model": "Model",
    "plots": "plots",
    "processes": (
        "BootstrapReturns GeometricBrownianMotion JumpDiffusion MeanReverting PathSet Process RandomWalk RegimeSwitching"
    ),
    "results.comparison": "Comparison Reported compare",
    "results.goal": "Goal",
    "results.saved": "open_run",
    "results.sweep": "Sweep sweep",
    "estimate": "Estimate Estimates",
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
