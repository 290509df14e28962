"""What the guides to distributions and processes say beside the code: questions, an example of each
to draw, and when it is the wrong choice. A test holds that none is missing.
"""

Entry = tuple[str, str, str]  # name, example, when it is wrong

DISTRIBUTIONS: dict[str, list[Entry]] = {
    "You have an opinion: two ends and perhaps a likeliest value": [
        (
            "pert",
            "kd.Pert(low=60, mode=90, high=130)",
            "The ends are taken as the least and the most that can happen at all. If they were "
            "meant as an ordinary low and high, state them as percentiles instead.",
        ),
        (
            "triangular",
            "kd.Triangular(low=60, mode=90, high=130)",
            "Its corners are sharp, and it gives values near the ends more weight than most "
            "experts mean. Prefer Pert where the likeliest value is trusted.",
        ),
        (
            "uniform",
            "kd.Uniform(low=60, high=130)",
            "Wherever somebody would be surprised by a value at the ends: then state a "
            "likeliest value.",
        ),
        (
            "integer uniform",
            "kd.IntegerUniform(low=1, high=12)",
            "Wherever some of the whole numbers are likelier than others.",
        ),
    ],
    "You have percentiles, from an expert or a report": [
        (
            "smooth percentiles",
            "kd.smooth_percentiles({5: 60, 25: 80, 50: 90, 75: 102, 95: 125}, low=0)",
            "Beyond the outermost percentiles the shape is a guess. Ask for percentiles that lie "
            "further out where the tails decide.",
        ),
        (
            "recalibrated",
            "kd.Pert(60, 90, 130).recalibrated("
            "kd.track_record(kd.demo_file('past_estimates.csv')))",
            "The track record must be of the same person and the same kind of question.",
        ),
        (
            "mixture",
            "kd.Mixture([kd.Normal(80, 8), kd.Normal(110, 10)], weights=[2, 1])",
            "A mixture says that one of the experts is right. It is not the average of their "
            "opinions, and it may have two peaks.",
        ),
    ],
    "You have records": [
        (
            "empirical",
            "kd.Empirical([71, 78, 83, 84, 88, 90, 91, 95, 104, 121])",
            "Nothing worse than the worst record can happen in it. With few records use a fitted "
            "distribution, or `kernel density`.",
        ),
        (
            "histogram",
            "kd.Histogram(edges=[60, 80, 90, 100, 130], weights=[4, 9, 7, 3])",
            "Within a bin all values are equally likely; where bins are wide, that matters.",
        ),
        (
            "kernel density",
            "kd.KernelDensity([71, 78, 83, 84, 88, 90, 91, 95, 104, 121])",
            "It smooths sharp ends away, so that values a little below 0 can come from records "
            "that are all positive.",
        ),
        (
            "uncertain",
            "kd.Gamma.fit([71, 78, 83, 84, 88, 90, 91, 95, 104, 121]).uncertain()",
            "It adds the error of the fit and not the doubt whether the family is right.",
        ),
    ],
    "The figure may be negative and is about symmetric": [
        (
            "normal",
            "kd.Normal(mean=100, sd=15)",
            "Extremes are rarer in it than in most prices, delays and losses; and it goes below 0.",
        ),
        (
            "logistic",
            "kd.Logistic(mean=100, sd=15)",
            "Its tails are heavier than the normal's but still light: not for market crashes.",
        ),
        (
            "laplace",
            "kd.Laplace(mean=100, sd=15)",
            "It has a sharp peak at its mean, which few quantities other than changes have.",
        ),
        (
            "student t",
            "kd.StudentT(mean=100, sd=15, df=4)",
            "With few degrees of freedom the mean of many trials is decided by a few of them.",
        ),
        (
            "student t by scale",
            "kd.StudentTByScale(location=100, scale=10, df=1.8)",
            "Its standard deviation does not exist, so that no error of a mean can be given.",
        ),
        (
            "cauchy",
            "kd.Cauchy(location=100, scale=5)",
            "It has no mean: averages of its draws do not settle, however many there are.",
        ),
    ],
    "The figure leans to one side": [
        (
            "skew normal",
            "kd.SkewNormal(location=90, scale=22, shape=4)",
            "Its skewness cannot exceed 1, and its tails are those of the normal.",
        ),
        (
            "johnson su",
            "kd.JohnsonSU(location=80, scale=15, a=-1.2, b=1.6)",
            "Four parameters need many records; with fewer than about 100 the fit says little.",
        ),
        (
            "lognormal",
            "kd.LogNormal(mean=100, sd=35)",
            "It cannot reach 0 and has no upper end; a high sd gives very large values.",
        ),
        (
            "gamma",
            "kd.Gamma(shape=8, scale=12)",
            "Its upper tail is lighter than the lognormal's: it may make large losses too rare.",
        ),
        (
            "inverse gaussian",
            "kd.InverseGaussian(mean=100, shape=800)",
            "Near its middle it is close to the lognormal; choose by the reason, not by the fit.",
        ),
        (
            "log logistic",
            "kd.LogLogistic(scale=95, shape=5)",
            "With a small shape its mean does not exist.",
        ),
    ],
    "The figure is a share, or lies between known ends": [
        (
            "beta",
            "kd.Beta(30, 19)",
            "The two shapes count like successes and failures: large ones claim much knowledge.",
        ),
        (
            "truncated",
            "kd.Normal(100, 30).truncate(low=60)",
            "It moves the mean: what is cut off is spread over the rest.",
        ),
        (
            "clipped",
            "kd.Clipped(kd.Normal(100, 30), high=120)",
            "It puts a lump of chance on the end. Use it where the figure really stops there, "
            "such as at capacity.",
        ),
    ],
    "The figure is a time, or a wait": [
        (
            "exponential",
            "kd.Exponential(mean=100)",
            "It has no memory: what has lasted long is as likely to end as what is new.",
        ),
        (
            "weibull",
            "kd.Weibull(scale=100, shape=2.2)",
            "One shape for the whole life: not for parts that fail early and again late.",
        ),
    ],
    "You count something": [
        (
            "bernoulli",
            "kd.Bernoulli(0.3)",
            "It is one event; for an event with an effect use `event impact`.",
        ),
        (
            "binomial",
            "kd.Binomial(trials=40, probability=0.3)",
            "The trials are independent. Passengers who travel in groups vary more.",
        ),
        (
            "poisson",
            "kd.Poisson(mean=12)",
            "Its variance is its mean. Counts that vary more, as most counts do, need the "
            "negative binomial.",
        ),
        (
            "negative binomial",
            "kd.NegativeBinomial(successes=5, probability=0.3)",
            "It is for counts that vary more than Poisson's, never less.",
        ),
        (
            "geometric",
            "kd.Geometric(0.2)",
            "Each attempt has the same chance: not where each attempt makes the next one better.",
        ),
        (
            "hypergeometric",
            "kd.Hypergeometric(population=200, marked=30, drawn=25)",
            "It draws without putting back; for a large lot the binomial is simpler.",
        ),
        (
            "discrete",
            "kd.Discrete([80, 100, 130], [0.3, 0.5, 0.2])",
            "A few cases for what is really a range make percentiles jump between them.",
        ),
    ],
    "You want extremes": [
        (
            "gumbel",
            "kd.Gumbel(location=90, scale=12)",
            "Its tail is fixed. Where yearly maxima have a heavier one, fit the next one.",
        ),
        (
            "generalized extreme value",
            "kd.GeneralizedExtremeValue(location=90, scale=12, shape=0.15)",
            "It is for the highest of a block, such as a year, not for single values.",
        ),
        (
            "generalized pareto",
            "kd.GeneralizedPareto(location=90, scale=12, shape=0.2)",
            "It is for what lies beyond a threshold; the threshold must be high.",
        ),
        (
            "pareto",
            "kd.Pareto(low=60, shape=3)",
            "With a shape of 1 or less its mean is infinite, with 2 or less its sd.",
        ),
    ],
    "Something may happen, and then it costs": [
        (
            "event impact",
            "kd.EventImpact(probability=0.4, impact=kd.Pert(60, 90, 130))",
            "The event happens once or not at all; for several a year use `compound`.",
        ),
        (
            "compound",
            "kd.Compound(kd.Poisson(3), kd.LogNormal(40, 25))",
            "Sizes are independent of each other and of the count: not where a bad year brings "
            "both more and larger losses.",
        ),
    ],
    "You have a distribution, in other units": [
        (
            "affine",
            "2 * kd.Pert(30, 45, 65)",
            "Twice one draw is not the sum of two draws, which varies less.",
        )
    ],
}

PROCESSES: list[Entry] = [
    (
        "geometric brownian motion",
        "kd.GeometricBrownianMotion(start=100, drift=0.05, volatility=0.2)",
        "It has neither jumps nor calm and wild spells, and it never returns to a level.",
    ),
    (
        "random walk",
        "kd.RandomWalk(start=100, drift=1, volatility=10)",
        "It may go below 0. For a price choose the geometric one.",
    ),
    (
        "mean reverting",
        "kd.MeanReverting(start=130, level=100, speed=1.5, volatility=25)",
        "The speed of return can rarely be told from a few years of records: read its interval.",
    ),
    (
        "jump diffusion",
        "kd.JumpDiffusion(start=100, drift=0.05, volatility=0.15, "
        "rate=2, jump_mean=-0.05, jump_sd=0.1)",
        "Jumps come at any time alike. Where wild days follow each other use the next one.",
    ),
    (
        "regime switching",
        "kd.RegimeSwitching(start=100, drifts=(0.08, -0.1), volatilities=(0.12, 0.4), "
        "rates=(0.5, 2.0))",
        "Two regimes need a long history to be told apart.",
    ),
    (
        "bootstrap returns",
        "kd.BootstrapReturns.fit(kd.read_prices(kd.demo_file('treasury_prices.csv'), "
        "missing='drop').frame['shipyard'])",
        "Nothing worse than the worst recorded day can happen in it, though days may follow "
        "each other.",
    ),
    (
        "arima",
        "kd.Arima.fit(kd.read_series(kd.demo_file('passengers.csv')), order=(0, 1, 1), "
        "seasonal=(0, 1, 1, 12), log=True)",
        "It knows the past of the series alone: not for what has just changed for good.",
    ),
    (
        "exponential smoothing",
        "kd.ExponentialSmoothing.fit(kd.read_series(kd.demo_file('passengers.csv')))",
        "It follows whatever came last; a single odd year bends its trend.",
    ),
    (
        "garch",
        "kd.Garch(start=100, volatility=0.012, reaction=0.08, persistence=0.97)",
        "It is for daily or weekly returns. Monthly ones rarely show spells.",
    ),
]
