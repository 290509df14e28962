"""Tests of contributions that add up: to the variance, to a percentile and to the contingency."""

import json

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.formula.terms import terms_of
from tests.common import Case, proof, repeats, run

SDS, CORRELATION = np.array([1.0, 2.0, 0.1]), 0.5


def cost(correlation: float = CORRELATION, **options) -> kd.Model:
    """A cost that is the sum of three normal drivers and a constant."""
    model = kd.Model("cost")
    model.given(fixed=3.0)
    for name, sd in zip("abc", SDS, strict=True):
        model.driver(name, kd.Normal(10, sd))
    for pair in ("ab", "ac", "bc") if correlation else ():
        model.correlate(*pair, correlation, kind="linear")
    model.line("two", "a + b")
    model.outcome("cost", "two + c + 0.5 * fixed", better="low", **options)
    return model


MATRIX = CORRELATION + (1 - CORRELATION) * np.eye(3)
JOINT = SDS * (MATRIX @ SDS)  # covariances with the sum
SD = np.sqrt(JOINT.sum())


class AddUp(Case):
    def test_a_sum_of_correlated_normals(self):
        made = cost().simulate(10_000, seed=1)
        to_80 = float(stats.norm.ppf(0.8)) / SD
        for to, truth, total, delta in (
            ("variance", JOINT, made["cost"].sd ** 2, 0.03),
            ("contingency", JOINT * to_80, made["cost"].percentile(80) - 31.5, 0.05),
        ):
            for by in ("drivers", "summands"):
                with self.subTest(to=to, by=by):
                    frame = made.sensitivity("cost", "contributions", to=to, by=by)
                    found = frame.loc[list("abc"), "contribution"]
                    np.testing.assert_allclose(found, truth, atol=delta)
                    self.assertAlmostEqual(frame["contribution"].sum(), float(total), delta=1e-9)
                    self.assertAlmostEqual(frame["share"].sum(), 1, 9)
                    self.assertAlmostEqual(frame.attrs["total"], float(total), delta=1e-9)

    def test_a_percentile_starts_from_the_base_case_or_holds_the_constants(self):
        made = cost().simulate(10_000, seed=1)
        found = made.sensitivity("cost", "contributions", to="percentile", percentile=90)
        self.assertAlmostEqual(found.loc["base case", "contribution"], 31.5, 9)
        p90 = float(made["cost"].percentile(90))
        self.assertAlmostEqual(found["contribution"].sum(), p90, 9)
        lines = made.sensitivity(
            "cost", "contributions", to="percentile", percentile=90, by="lines"
        )
        self.assertEqual(sorted(lines.index), ["0.5 * fixed", "c", "two"])
        self.assertEqual(lines.loc["0.5 * fixed", "contribution"], 1.5)
        self.assertAlmostEqual(lines["contribution"].sum(), p90, 9)

    def test_a_sum_of_gammas_at_a_percentile(self):
        # given their sum, gammas of one scale share it by their shapes
        model = kd.Model("gammas")
        for name, shape in (("a", 1.0), ("b", 2.0), ("c", 5.0)):
            model.driver(name, kd.Gamma(shape=shape, scale=2.0))
        model.outcome("y", "a + b + c", better="low")
        made = model.simulate(20_000, seed=3)
        for level in (50, 80, 95):
            frame = made.sensitivity(
                "y", "contributions", to="percentile", percentile=level, by="lines"
            )
            share = frame.loc[["a", "b", "c"], "share"]
            np.testing.assert_allclose(share, np.array([1, 2, 5]) / 8, atol=0.03)

    def test_a_part_that_bends_with_the_outcome(self):
        # y = 3 u, of which a part is u ** 2: the mean of the part at a percentile is known
        model = kd.Model("bent")
        model.driver("u", kd.Normal(0, 1))
        model.line("curved", "u ** 2")
        model.line("rest", "3 * u - curved")
        model.outcome("y", "curved + rest", better="low")
        frame = model.simulate(20_000, seed=1).sensitivity(
            "y", "contributions", to="percentile", by="lines"
        )
        curved = stats.norm.ppf(0.8) ** 2
        self.assertAlmostEqual(frame.loc["curved", "contribution"], curved, delta=0.04)

    def test_interplay_is_shared_by_both(self):
        # a product: half the interplay is each one's
        model = kd.Model("product")
        model.driver("price", kd.Normal(10, 2))
        model.driver("volume", kd.Normal(5, 1.5))
        model.outcome("sales", "price * volume")
        frame = model.simulate(20_000, seed=2).sensitivity("sales", "contributions")
        both = (2 * 1.5) ** 2 / 2
        self.assertAlmostEqual(frame.loc["price", "contribution"], 100 + both, delta=6)
        self.assertAlmostEqual(frame.loc["volume", "contribution"], 225 + both, delta=8)

    @proof
    def test_errors_from_both_sides(self):
        truth = {"variance": JOINT, "contingency": JOINT / SD * stats.norm.ppf(0.8)}
        for to, wanted in truth.items():
            gaps, errors = [], []
            for seed in range(40):
                made = cost().simulate(1000, seed=seed, workers=1)
                frame = made.sensitivity("cost", "contributions", to=to).loc[list("abc")]
                gaps.append(frame["contribution"] - wanted)
                errors.append(frame["error"])
            with self.subTest(to=to):
                self.assertCalibrated(gaps, errors)

    def test_errors_are_as_large_as_the_spread_of_other_runs(self):
        for to in ("variance", "contingency"):
            found, errors = [], []
            for seed in range(12):
                made = cost().simulate(500, seed=seed, workers=1)
                frame = made.sensitivity("cost", "contributions", to=to).loc[list("abc")]
                found.append(frame["contribution"])
                errors.append(frame["error"])
            ratio = np.mean(errors, axis=0) / (1.96 * np.std(found, axis=0, ddof=1))
            self.assertTrue((ratio > 0.5).all() and (ratio < 2).all(), ratio)

    def test_a_rare_risk_and_a_cost_that_never_moves(self):
        model = kd.Model("risk")
        model.driver("strike", kd.Discrete([0.0, 100.0], [0.9, 0.1]))
        model.driver("fuel", kd.Uniform(10, 10.001))
        model.given(rent=5.0)
        model.outcome("cost", "strike + fuel + rent", better="low")
        made = model.simulate(4000, seed=1)
        for level, share in ((95, 100.0), (50, 0.0)):
            frame = made.sensitivity(
                "cost", "contributions", to="percentile", percentile=level, by="lines"
            )
            self.assertAlmostEqual(frame.loc["strike", "contribution"], share, delta=0.01)
            self.assertEqual(frame.loc["rent", "contribution"], 5.0)
        frame = made.sensitivity("cost", "contributions", by="lines")
        self.assertEqual(frame.loc["rent", "contribution"], 0.0)

    def test_trials_without_a_value_are_left_out_and_counted(self):
        model = kd.Model("gaps")
        model.driver("a", kd.Normal(0, 1))
        model.driver("b", kd.Normal(0, 1))
        model.outcome("y", "b + sqrt(a + 0.5)", better="low")
        frame = model.simulate(4000, seed=1).sensitivity("y", "contributions")
        self.assertLess(frame.attrs["trials"], 4000)
        self.assertAlmostEqual(frame["share"].sum(), 1, 9)


class Asking(Case):
    def test_the_bad_side_is_the_default(self):
        made = cost(0).simulate(1000, seed=1)
        frame = made.sensitivity("cost", "contributions", to="contingency")
        self.assertEqual(frame.attrs["to"], "P80 less the base case")
        self.assertTrue((frame["contribution"] > 0).all())
        model = cost(0)
        model.outcome("gain", "-cost")
        frame = model.simulate(1000, seed=1).sensitivity("gain", "contributions", to="percentile")
        self.assertEqual(frame.attrs["to"], "P20")

    def test_it_is_the_usual_method_where_drivers_move_together(self):
        self.assertIn("contribution", cost().simulate(400, seed=1).sensitivity("cost"))
        self.assertIn("rank correlation", cost(0).simulate(400, seed=1).sensitivity("cost"))
        self.assertIn(
            "rank correlation", cost().simulate(400, seed=1).sensitivity("cost", by_period=True)
        )

    def test_what_cannot_be_asked(self):
        model = cost()
        model.outcome("ratio", "a / b")
        model.outcome("broken", "a + sqrt(9.9 - a)")
        made = model.simulate(400, seed=1)
        for name, options, words in (
            ("ratio", {"by": "lines"}, ("not a sum", "sales,-costs")),
            ("cost", {"by": "line"}, ("'lines'",)),
            ("cost", {"by": "a,b"}, ("do not add up",)),
            ("cost", {"by": ["a", "d"]}, ("'d'",)),
            ("cost", {"by": [1]}, ("names of quantities",)),
            ("cost", {"to": "sd"}, ("to must be",)),
            ("cost", {"percentile": 100}, ("between 0 and 100",)),
            ("cost", {"by_period": True}, ("together",)),
            ("broken", {}, ("base case",)),
        ):
            with self.subTest(name=name, options=options), self.fails(*words):
                made.sensitivity(name, "contributions", **options)

    def test_terms_of_sums(self):
        self.assertEqual(
            [term.label for term in terms_of("a - (b - c) * 2 - (d + -e)")],
            ["a", "-((b - c) * 2)", "-d", "e"],
        )
        inner = {"a": "x + y", "b": "x * y"}
        found = terms_of("a - b", inner.get)
        self.assertEqual([term.label for term in found], ["x", "y", "-b"])


class OnTheCommandLine(Case):
    def test_a_table_and_data(self):
        from tests.common import DEMO

        file = str(DEMO / "hydrofoil.toml")
        usual = run("drivers", file, "--trials", "1000", "--seed", "1")
        self.assertIn("Contributions to the variance", usual.stdout)
        found = run(
            "drivers", file, "--trials", "1000", "--seed", "1", "--method", "contributions",
            "--contributions-to", "contingency", "--percentile", "90", "--json",
        )  # fmt: skip
        data = json.loads(found.stdout)
        self.assertEqual(data["to"], "P90 less the base case")
        total = sum(row["contribution"] for row in data["drivers"])
        self.assertAlmostEqual(total, data["total"], 9)


EVENTS = {"strike": (0.1, 30.0), "fire": (0.05, 60.0), "delay": (0.3, 10.0)}


def rare_risks() -> kd.Model:
    """Works of a normal cost, and three events of which few trials decide the tail."""
    model = kd.Model("Rare risks")
    model.driver("works", kd.Normal(100, 10))
    for name, (chance, size) in EVENTS.items():
        model.driver(name, kd.Discrete([0.0, size], [1 - chance, chance]))
    model.outcome("cost", "works + strike + fire + delay", better="low")
    return model


def expected_at(percentile: float) -> dict[str, float]:
    """Return what each event adds on average where the cost is at its percentile, less its base
    value, that it does not happen: a mixture of eight normals, by hand.
    """
    from itertools import product

    from scipy.optimize import brentq

    cases = []
    for happened in product((0, 1), repeat=3):
        sizes = [hit * size for hit, (_, size) in zip(happened, EVENTS.values(), strict=True)]
        chances = [
            p if hit else 1 - p for hit, (p, _) in zip(happened, EVENTS.values(), strict=True)
        ]
        cases.append((sizes, float(np.prod(chances))))
    point = brentq(
        lambda x: sum(p * stats.norm.cdf(x, 100 + sum(s), 10) for s, p in cases) - percentile / 100,
        0,
        300,
    )
    weights = np.array([p * stats.norm.pdf(point, 100 + sum(s), 10) for s, p in cases])
    shares = weights / weights.sum() @ np.array([s for s, _ in cases])
    return {name: float(share) for name, share in zip(EVENTS, shares, strict=True)}


class RareRisks(Case):
    @proof
    def test_contributions_to_a_tail_that_few_risks_decide(self):
        for percentile, trials in ((80, 4_000), (90, 2_000), (90, 10_000), (95, 4_000)):
            truth = expected_at(percentile)
            held = dict.fromkeys(EVENTS, 0)
            half = dict.fromkeys(EVENTS, 0)
            count = repeats(100)
            for seed in range(count):
                frame = (
                    rare_risks()
                    .simulate(trials, seed=seed)
                    .sensitivity("cost", "contributions", to="percentile", percentile=percentile)
                )
                for name in EVENTS:
                    gap = abs(frame.loc[name, "contribution"] - truth[name])
                    held[name] += gap <= frame.loc[name, "error"]
                    half[name] += gap <= frame.loc[name, "error"] / 2
            for name in EVENTS:
                with self.subTest(percentile=percentile, trials=trials, risk=name):
                    self.assertGreater(held[name], stats.binom.ppf(1e-3, count, 0.90))
            self.assertLess(min(half.values()), stats.binom.isf(1e-3, count, 0.80))

    def test_they_lie_at_the_truth(self):
        truth = expected_at(90)
        run = rare_risks().simulate(50_000, seed=1)
        frame = run.sensitivity("cost", "contributions", to="percentile", percentile=90)
        for name, value in truth.items():
            self.assertAlmostEqual(frame.loc[name, "contribution"], value, delta=1.2)
        total = float(run["cost"].percentile(90)) - float(run.base["cost"][0])
        self.assertAlmostEqual(
            frame["contribution"].sum() - frame.loc["base case", "contribution"]
            if "base case" in frame.index
            else frame["contribution"].sum(),
            total,
            places=6,
        )
