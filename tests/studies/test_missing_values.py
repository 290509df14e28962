"""Tests of trials without a value: counted everywhere, and ranked only as the outcome says."""

import numpy as np

import kindynos as kd
from kindynos.decisions.tree import ModelOutcome
from kindynos.results.result import Result
from kindynos.studies.paired import Paired
from tests.common import Folder, run

TRIALS, SEED = 4000, 3


def plants(missing=None, better="high"):
    """Two plants: a risky one, a total loss in half the trials (its IRR does not exist there), and
    a safe one.
    """
    model = kd.Model("plants")
    model.given(risky=0.0)
    model.driver("loss", kd.Discrete([0, 1], [0.5, 0.5]))
    model.driver("noise", kd.Normal(0.0, 0.02))
    formula = "(0.3 if loss < 0.5 else log(0 - 1)) if risky > 0.5 else 0.13 + noise"
    model.outcome("irr", formula, target=0.1, missing=missing, better=better)
    return model


def compared(missing=None, **options):
    model = plants(missing, **options)
    runs = {
        "safe": model.simulate(TRIALS, SEED),
        "risky": model.replace(risky=1.0).simulate(TRIALS, SEED),
    }
    return runs, kd.compare(runs)


class WithoutARank(Folder):
    def test_differences_are_of_all_trials_and_say_how_many_have_none(self):
        runs, both = compared()
        safe, risky = runs["safe"]["irr"].values, runs["risky"]["irr"].values
        self.assertEqual(np.isnan(risky).mean(), 0.5)
        rows = both.differences().loc["irr", "risky"]["difference"]
        above = (risky > 0.1).mean() - (safe > 0.1).mean()
        self.assertAlmostEqual(rows["chance above 0.1"], above)
        self.assertAlmostEqual(above, 0.5 - (1 - 0.0668), delta=0.01)  # normal: P(z > -1.5)
        self.assertAlmostEqual(rows["higher in the same trial"], 0.5)
        self.assertAlmostEqual(rows["share without a value"], 0.5)
        self.assertAlmostEqual(rows["mean"], 0.3 - safe.mean())
        self.assertAlmostEqual(rows["P50"], 0.3 - np.percentile(safe, 50))

    def test_the_error_of_a_difference_of_means_knows_what_is_missing(self):
        gaps, errors = [], []
        for seed in range(40):
            rng = np.random.default_rng(seed)
            x = rng.standard_normal(2000)
            one = np.where(rng.random(2000) < 0.4, np.nan, x)
            two = np.where(rng.random(2000) < 0.2, np.nan, x + 0.5 * rng.standard_normal(2000))
            pair = Paired(*(self._result(values) for values in (one, two)))
            gaps.append(pair.mean())
            errors.append(pair.mean().error)
        self.assertCalibrated([float(gap) for gap in gaps], errors)

    def _result(self, values):
        return Result("x", values, np.linspace(0, len(values), 21).astype(int), True)

    def test_nothing_dominates_and_nothing_is_chosen(self):
        _, both = compared()
        with self.fails("50.0 % of the trials of 'risky' have no value of 'irr'", "missing="):
            both.dominance("irr")
        words = ("49.8 % of the trials have no value of 'irr'", "cannot choose", "missing=")
        with self.fails(*words):
            plants().optimize(
                {"risky": [0.0, 1.0]}, maximize="percentile 5 of irr", trials=500, seed=1
            )
        found = plants().optimize(
            {"risky": [0.0, 1.0]}, maximize="chance above 0.1 of irr", trials=500, seed=1
        )
        self.assertEqual(found.decisions["risky"], 0.0)
        payoff = ModelOutcome(plants().replace(risky=1.0), "irr")
        with self.fails("have no value, and a decision cannot rank them"):
            kd.Decision("d", {"build": payoff, "wait": 0.1}).solve()

    def test_two_quantities_together_have_a_row_for_what_is_missing(self):
        runs, _ = compared()
        result = runs["risky"]
        joint = kd.joint_distribution(result["irr"], result["noise"], (0.1, 0.0))
        self.assertAlmostEqual(float(joint.without_value), 0.5)
        self.assertAlmostEqual(
            sum(map(float, joint.quadrants.values())) + float(joint.without_value), 1
        )
        self.assertIn("trials without a value", joint.table().index)

    def test_the_driver_that_decides_is_named(self):
        run = plants().replace(risky=1.0).simulate(TRIALS, SEED)
        self.assertEqual(run.sensitivity("irr").attrs["decides a value"], "loss (100 %)")
        run = plants().simulate(TRIALS, SEED)
        self.assertIsNone(run.sensitivity("irr").attrs["decides a value"])

    def test_differences_that_are_alike_in_every_block_have_an_error(self):
        _, both = compared()
        error = both.differences().loc[("irr", "risky", "share without a value"), "error"]
        self.assertAlmostEqual(error, 1.96 * 0.5 / TRIALS**0.5, delta=0.001)

    def test_a_goal_says_it(self):
        model = kd.Model("m")
        model.given(price=1.0)
        model.driver("x", kd.Uniform(0, 1))
        model.outcome("y", "price * x if x > 0.1 else log(0 - 1)")
        goal = model.solve("price", outcome="y", mean=2.0, within=(1, 6), trials=1000, seed=1)
        self.assertAlmostEqual(goal.without_value, 0.1, delta=0.002)

    def test_the_command_says_it(self):
        path = self.folder / "plants.toml"
        path.write_text(plants().to_toml() + "\n[scenarios.risky]\nrisky = 1.0\n")
        shown = run("compare", str(path), "--trials", "1000", "--seed", "1").stdout
        self.assertIn("share without a value", shown)
        self.assertIn("trials without a value", shown)
        self.assertIn("+50.0", shown)
        self.assertIn("Which of them dominates cannot be said: 50.0 %", shown)


class WithARank(Folder):
    def test_missing_trials_rank_where_the_outcome_says(self):
        for missing, low in (("worst", True), ("best", False)):
            runs, both = compared(missing)
            risky = runs["risky"]["irr"]
            self.assertEqual(float(risky.percentile(10)), -np.inf if low else 0.3)
            self.assertEqual(float(risky.percentile(90)), 0.3 if low else np.inf)
            self.assertEqual(float(risky.chance(below=0.1)), 0.5 if low else 0.0)
            self.assertEqual(float(risky.chance(above=0.1)), 0.5 if low else 1.0)
            self.assertAlmostEqual(float(risky.mean), 0.3)  # of the trials that have a value
            higher = both.differences().loc[("irr", "risky", "higher in the same trial")]
            self.assertEqual(higher["difference"], 0.5 if low else 1.0)
            verdicts = both.dominance("irr")["first order"]
            self.assertEqual(verdicts["risky", "safe"], not low)
            self.assertFalse(verdicts["safe", "risky"])

    def test_a_cost_ranks_them_at_its_own_bad_end(self):
        runs, _ = compared("worst", better="low")
        self.assertEqual(float(runs["risky"]["irr"].percentile(90)), np.inf)

    def test_a_number_counts_in_every_statistic(self):
        runs, both = compared(-1.0)
        risky = runs["risky"]["irr"]
        self.assertAlmostEqual(float(risky.mean), 0.5 * 0.3 - 0.5)
        self.assertAlmostEqual(float(risky.percentile(5)), -1.0)
        self.assertTrue(len(both.dominance("irr")))

    def test_the_best_decision_heeds_it(self):
        for missing in ("worst", -1.0):
            found = plants(missing).optimize(
                {"risky": [0.0, 1.0]}, maximize="percentile 5 of irr", trials=500, seed=1
            )
            self.assertEqual(found.decisions["risky"], 0.0)
        payoff = ModelOutcome(plants(-1.0).replace(risky=1.0), "irr")
        solved = kd.Decision("d", {"build": payoff, "wait": 0.1}).solve()
        self.assertEqual(solved.best, "wait")

    def test_it_is_kept_in_files_and_saved_runs(self):
        for missing in ("worst", "best", -1.0):
            model = plants(missing)
            path = self.folder / "m.toml"
            path.write_text(model.to_toml())
            self.assertEqual(kd.load_model(path).quantities["irr"].missing, missing)
            saved = self.folder / "r.parquet"
            model.simulate(300, 1).save(saved)
            self.assertEqual(kd.open_run(saved)["irr"].missing, missing)
        with self.fails("missing must be one of 'worst', 'best'"):
            plants("least")
        path.write_text(
            plants().to_toml().replace("target = 0.1", 'target = 0.1\nmissing = "least"')
        )
        with self.fails("m.toml", "[outcomes", "missing", kind=kd.FileError):
            kd.load_model(path)


class Costs(Folder):
    def test_the_bad_end_of_a_cost_is_the_dear_one(self):
        model = kd.Model("costs")
        model.given(insured=0.0)
        model.driver("claim", kd.Discrete([0, 1000], [0.9, 0.1]))
        model.outcome("cost", "150 if insured > 0.5 else 50 + claim", better="low")
        result = model.simulate(5000, 1)["cost"]
        values = np.sort(result.values)
        self.assertEqual(float(result.value_at_risk(0.95)), np.percentile(values, 95))
        self.assertAlmostEqual(float(result.expected_shortfall(0.95)), values[-250:].mean())
        self.assertAlmostEqual(float(result.expected_shortfall(0.95, 50)), 1000.0)
        found = model.optimize(
            {"insured": [0.0, 1.0]}, minimize="expected_shortfall 0.95 of cost", trials=2000, seed=1
        )
        self.assertEqual(found.decisions["insured"], 1.0)
        pair = Paired(
            model.simulate(5000, 1)["cost"], model.replace(insured=1.0).simulate(5000, 1)["cost"]
        )
        self.assertAlmostEqual(float(pair.statistic("expected_shortfall", 0.95)), 150 - 1050)
        self.assertAlmostEqual(float(pair.value_at_risk(0.95)), 150 - 1050)

    def test_the_mean_shortfall_of_a_cost_is_that_of_its_mirror(self):
        rng = np.random.default_rng(1)
        values, bounds = rng.gamma(2, 3, 4000), np.linspace(0, 4000, 21).astype(int)
        cost = Result("x", values, bounds, better="low")
        mirror = Result("x", -values, bounds)
        for level in (0.9, 0.99):
            self.assertEqual(cost.expected_shortfall(level), mirror.expected_shortfall(level))
            self.assertEqual(cost.value_at_risk(level), mirror.value_at_risk(level))

    def test_hits_alike_in_every_block_have_an_error(self):
        values = np.tile(np.arange(2500.0), 20)  # each block holds the same values
        result = Result("x", values, np.arange(21) * 2500)
        for cut in range(1, 2499, 7):
            self.assertGreater(result.chance(above=float(cut)).error, 1e-5)


class Infinite(Folder):
    def model(self):
        model = kd.Model("m", periods=3)
        model.given(x=0.2)
        model.driver("u", kd.Uniform(0, 1))
        model.line("flow", "(1 if u < 1.4 - x else 0) + 0 * period")
        model.outcome("wait", "payback(flow, -2) + x", better="low")
        return model

    def test_a_mean_that_is_infinite_is_never_the_best(self):
        values = {"x": [0.0, 0.2, 0.9]}  # at the last some trials never pay back
        for aim, best in (("minimize", 0.0), ("maximize", 0.2)):
            found = self.model().optimize(values, trials=300, seed=1, **{aim: "mean of wait"})
            self.assertEqual(found.decisions["x"], best)
        with self.fails("mean of wait is infinite at every point", kind=kd.GoalError):
            self.model().optimize({"x": [0.8, 0.9]}, maximize="mean of wait", trials=300, seed=1)

    def test_dominance_of_what_may_never_come(self):
        model = self.model()
        runs = {"soon": model.simulate(500, 1), "late": model.replace(x=0.9).simulate(500, 1)}
        verdicts = kd.compare(runs).dominance("wait")
        self.assertEqual(list(verdicts["first order"]), [True, False])
        self.assertEqual(list(verdicts["second order"]), [True, False])
        self.assertAlmostEqual(verdicts.loc[("late", "soon"), "against"], 1.0)
