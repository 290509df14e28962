"""The public names by topic, with the module that each comes from.

``lazy.py`` reads them here, and so do type checkers and editors.
"""

# ruff: noqa: I001 (the names stand by topic, in the order in which a newcomer needs them)

# Models
from kindynos.model.bridging import bridge as bridge
from kindynos.model.model import Model as Model
from kindynos.model.file import load_model as load_model
from kindynos.workbooks.workbook import read_workbook as read_workbook
from kindynos.model.saved import open_run as open_run
from kindynos.model.parts import open_parts as open_parts
from kindynos.engine.precision import Precision as Precision
from kindynos.demo import demo_file as demo_file

# Distributions
from kindynos.distributions.base import Distribution as Distribution
from kindynos.distributions.normal import Normal as Normal
from kindynos.distributions.normal import LogNormal as LogNormal
from kindynos.distributions.bounded import Uniform as Uniform
from kindynos.distributions.bounded import Triangular as Triangular
from kindynos.distributions.bounded import Pert as Pert
from kindynos.distributions.bounded import Beta as Beta
from kindynos.distributions.positive import Exponential as Exponential
from kindynos.distributions.positive import Gamma as Gamma
from kindynos.distributions.positive import Weibull as Weibull
from kindynos.distributions.positive import LogLogistic as LogLogistic
from kindynos.distributions.positive import InverseGaussian as InverseGaussian
from kindynos.distributions.real_line import StudentT as StudentT
from kindynos.distributions.real_line import StudentTByScale as StudentTByScale
from kindynos.distributions.real_line import Laplace as Laplace
from kindynos.distributions.real_line import Logistic as Logistic
from kindynos.distributions.real_line import Cauchy as Cauchy
from kindynos.distributions.real_line import SkewNormal as SkewNormal
from kindynos.distributions.real_line import JohnsonSU as JohnsonSU
from kindynos.distributions.extremes import Gumbel as Gumbel
from kindynos.distributions.extremes import GeneralizedExtremeValue as GeneralizedExtremeValue
from kindynos.distributions.extremes import GeneralizedPareto as GeneralizedPareto
from kindynos.distributions.extremes import Pareto as Pareto
from kindynos.distributions.counts import Bernoulli as Bernoulli
from kindynos.distributions.counts import Binomial as Binomial
from kindynos.distributions.counts import Poisson as Poisson
from kindynos.distributions.counts import Geometric as Geometric
from kindynos.distributions.counts import NegativeBinomial as NegativeBinomial
from kindynos.distributions.counts import Hypergeometric as Hypergeometric
from kindynos.distributions.counts import IntegerUniform as IntegerUniform
from kindynos.distributions.discrete import Discrete as Discrete
from kindynos.distributions.compound import Compound as Compound
from kindynos.distributions.event_impact import EventImpact as EventImpact
from kindynos.distributions.mixture import Mixture as Mixture

# Distributions from opinions and records
from kindynos.distributions.elicitation import from_percentiles as from_percentiles
from kindynos.distributions.smooth import smooth_percentiles as smooth_percentiles
from kindynos.distributions.from_data import Empirical as Empirical
from kindynos.distributions.from_data import Histogram as Histogram
from kindynos.distributions.from_data import KernelDensity as KernelDensity
from kindynos.dependence.matrices import nearest_correlation as nearest_correlation

# Processes
from kindynos.processes.base import Process as Process
from kindynos.processes.brownian import GeometricBrownianMotion as GeometricBrownianMotion
from kindynos.processes.brownian import RandomWalk as RandomWalk
from kindynos.processes.mean_reverting import MeanReverting as MeanReverting
from kindynos.processes.jumps import JumpDiffusion as JumpDiffusion
from kindynos.processes.regimes import RegimeSwitching as RegimeSwitching
from kindynos.processes.bootstrap import BootstrapReturns as BootstrapReturns
from kindynos.processes.garch import Garch as Garch
from kindynos.processes.arima import Arima as Arima
from kindynos.processes.smoothing import ExponentialSmoothing as ExponentialSmoothing
from kindynos.processes.pathset import PathSet as PathSet

# Fitting to records
from kindynos.fitting.records import read_values as read_values
from kindynos.fitting.records import read_series as read_series
from kindynos.fitting.ranking import fit_distributions as fit_distributions
from kindynos.fitting.counts import fit_counts as fit_counts
from kindynos.fitting.jointly import fit_jointly as fit_jointly
from kindynos.fitting.calendar import calendar_regressors as calendar_regressors
from kindynos.fitting.forecast import forecast as forecast
from kindynos.fitting.series import fit_series as fit_series
from kindynos.fitting.track_record import track_record as track_record
from kindynos.fitting.diagnostics import diagnose as diagnose
from kindynos.fitting.normality import normality as normality

# Cash flows on arrays; more in kindynos.finance
from kindynos.finance.cash_flow import npv as npv
from kindynos.finance.internal_rate import irr as irr
from kindynos.finance.internal_rate import irr_report as irr_report
from kindynos.finance.measures import mirr as mirr
from kindynos.finance.measures import payback as payback
from kindynos.finance.measures import discounted_payback as discounted_payback
from kindynos.finance.measures import profitability_index as profitability_index
from kindynos.finance.dated import npv_dated as npv_dated
from kindynos.finance.dated import irr_dated as irr_dated
from kindynos.finance.annuities import levelized_cost as levelized_cost
from kindynos.finance.measures import terminal_value as terminal_value
from kindynos.finance.measures import value_per_share as value_per_share
from kindynos.finance.ledger import roll_forward as roll_forward
from kindynos.finance.ledger import first_period as first_period
from kindynos.finance.drawdowns import max_drawdown as max_drawdown

# Runs and how they are read; trials computed elsewhere
from kindynos.results.run import Run as Run
from kindynos.results.result import Result as Result
from kindynos.results.result import RowResult as RowResult
from kindynos.inference.estimates import Estimate as Estimate
from kindynos.inference.estimates import Estimates as Estimates
from kindynos.results.read_trials import read_trials as read_trials
from kindynos.results.joint import joint_distribution as joint_distribution

# Many cases: scenarios, grids of values
from kindynos.studies.comparison import compare as compare
from kindynos.studies.sweep import sweep as sweep
from kindynos.studies.comparison import ReportedMean as ReportedMean

# Prices, portfolios, their risk and the best weights; more in kindynos.markets
from kindynos.markets.prices import read_prices as read_prices
from kindynos.markets.portfolio import Portfolio as Portfolio
from kindynos.markets.positions import Position as Position
from kindynos.markets.backtesting import backtest as backtest
from kindynos.markets.allocation.allocation import allocate as allocate
from kindynos.markets.allocation.frontier import frontier as frontier
from kindynos.markets.allocation.moments import Moments as Moments
from kindynos.markets.allocation.simulated_returns import SimulatedReturns as SimulatedReturns

# Decisions, and populations whose members move between states
from kindynos.decisions.decision import Decision as Decision
from kindynos.decisions.tree import Choice as Choice
from kindynos.decisions.tree import Event as Event
from kindynos.decisions.tree import EventTest as EventTest
from kindynos.decisions.tree import Pay as Pay
from kindynos.decisions.preferences import Weights as Weights
from kindynos.decisions.preferences import pairwise_weights as pairwise_weights
from kindynos.decisions.file import load_decision as load_decision
from kindynos.decisions.waiting import value_of_waiting as value_of_waiting
from kindynos.cohorts.cohort import Cohort as Cohort

# Pictures, and the other packages of functions
from kindynos import plots as plots
from kindynos.reports.progress import ProgressBar as ProgressBar
from kindynos import finance as finance
from kindynos import markets as markets

# Errors and warnings
from kindynos.errors import KindynosError as KindynosError
from kindynos.errors import ParameterError as ParameterError
from kindynos.errors import ModelError as ModelError
from kindynos.errors import FormulaError as FormulaError
from kindynos.errors import FileError as FileError
from kindynos.errors import RunError as RunError
from kindynos.errors import TrialError as TrialError
from kindynos.errors import GoalError as GoalError
from kindynos.errors import RunInterrupt as RunInterrupt
from kindynos.errors import StoppedError as StoppedError
from kindynos.errors import DataWarning as DataWarning
from kindynos.errors import FitWarning as FitWarning

# For annotations only: classes of what functions and methods return. Their constructors are
# private and may change.
from kindynos.markets.prices import Prices as Prices
from kindynos.distributions.recalibrated import Recalibrated as Recalibrated
from kindynos.decisions.waiting import WaitingValue as WaitingValue
from kindynos.distributions.base import Affine as Affine
from kindynos.distributions.base import Truncated as Truncated
from kindynos.distributions.transforms import Clipped as Clipped
from kindynos.distributions.uncertain import Uncertain as Uncertain
from kindynos.distributions.smooth import SmoothPercentiles as SmoothPercentiles
from kindynos.fitting.diagnostics import Diagnostics as Diagnostics
from kindynos.fitting.normality import Normality as Normality
from kindynos.results.joint import JointDistribution as JointDistribution
from kindynos.markets.exposure import RiskFigure as RiskFigure
from kindynos.finance.rates import IrrReport as IrrReport
from kindynos.decisions.solve import Solution as Solution
from kindynos.studies.goal import Goal as Goal
from kindynos.studies.sweep import Sweep as Sweep
from kindynos.studies.comparison import Comparison as Comparison
from kindynos.cohorts.result import CohortResult as CohortResult
from kindynos.results.read_trials import ReadTrials as ReadTrials
from kindynos.fitting.ranking import Ranking as Ranking
from kindynos.fitting.series import SeriesRanking as SeriesRanking
from kindynos.markets.backtesting import Backtest as Backtest
from kindynos.markets.allocation.allocation import Allocation as Allocation
from kindynos.markets.allocation.frontier import Frontier as Frontier
from kindynos.markets.return_series import Returns as Returns

__version__: str
