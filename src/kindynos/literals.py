"""The words that arguments may be, as types: a type checker refuses others."""

from __future__ import annotations

from typing import Literal

SamplingPlan = Literal["latin", "random", "antithetic", "sobol"]
Each = Literal["period"]
PeriodLength = Literal["year", "quarter", "month", "week"]
FlowTiming = Literal["end", "mid", "start"]
RunStore = Literal["all", "summary", "parts"]
OnBad = Literal["count", "error"]
Side = Literal["low", "high"]
Better = Literal["high", "low"]
WeightsKind = Literal["counts", "survey"]
Missing = Literal["worst", "best"]
CorrelationKind = Literal["rank", "linear"]
CopulaName = Literal["gaussian", "t", "clayton", "gumbel", "frank"]
# what a figure is: in the unit of its quantity, a share, a percentile, a count, a date, or none
Kind = Literal["amount", "share", "percentile", "count", "number", "date", "text"]
StatisticName = Literal[
    "mean",
    "median",
    "mode",
    "sd",
    "skewness",
    "kurtosis",
    "lowest",
    "highest",
    "percentile",
    "percentile_of",
    "chance",
    "survival",
    "conditional_mean",
    "value_at_risk",
    "expected_shortfall",
]
SensitivityMethod = Literal[
    "rank", "regression", "swing", "conditional", "sobol", "shapley", "contributions", "tail"
]
ContributionTo = Literal["variance", "percentile", "contingency"]
ContributionBy = Literal["drivers", "lines", "summands"]
RiskMethod = Literal[
    "historical", "weighted", "filtered", "tail", "normal", "student", "cornish fisher", "simulated"
]
ProcessName = Literal[
    "geometric brownian motion",
    "random walk",
    "mean reverting",
    "jump diffusion",
    "regime switching",
    "bootstrap returns",
    "arima",
    "exponential smoothing",
    "garch",
]
DecisionRule = Literal["mean", "certainty equivalent", "percentile", "expected shortfall"]
Spacing = Literal["day", "working day", "week", "month", "quarter", "year"]
MissingPolicy = Literal["drop", "available", "carry", "error"]
ReturnKind = Literal["simple", "log"]
ReturnPeriod = Literal["day", "week", "month", "quarter", "year"]
CovarianceMethod = Literal["sample", "weighted", "shrunk"]
Rebalancing = Literal["monthly", "daily"]
StressOthers = Literal["follow", "still"]
MeansMethod = Literal["sample", "shrunk", "implied"]
RiskAim = Literal["sd", "variance", "expected_shortfall", "parity"]
GainAim = Literal["mean", "ratio", "parity"]
FrontierRisk = Literal["sd", "expected_shortfall"]
RebalancingSpan = Literal["month", "quarter", "year"]
