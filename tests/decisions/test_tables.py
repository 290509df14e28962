"""Tests of decisions on one event, a table of payoffs, against what the textbook's definitions give
in NumPy.
"""

import numpy as np

import kindynos as kd
from tests.common import Case


def table(seed, alternatives=3, states=4):
    """Payoffs of alternatives (rows) in states (columns), the chances of the states, and the
    decision that they make.
    """
    rng = np.random.default_rng(seed)
    payoffs = rng.integers(-50, 50, (alternatives, states)).astype(float)
    chances = rng.dirichlet(np.ones(states))
    return payoffs, chances, decision_of(payoffs, chances)


def decision_of(payoffs, chances, **options):
    def event(row):
        outcomes = {
            f"s{i}": (float(chance), float(value))
            for i, (chance, value) in enumerate(zip(chances, row, strict=True))
        }
        last = f"s{len(row) - 1}"
        return kd.Event("market", outcomes | {last: ("rest", float(row[-1]))})

    return kd.Decision("d", {f"a{i}": event(row) for i, row in enumerate(payoffs)}, **options)


class Tables(Case):
    def test_means_spreads_and_the_best(self):
        for seed in range(10):
            payoffs, chances, decision = table(seed)
            found = decision.solve(trials=500)
            means = payoffs @ chances
            self.assertEqual(found.best, f"a{means.argmax()}")
            figures = found.table().loc[["a0", "a1", "a2"]]
            np.testing.assert_allclose(figures["mean"], means)
            np.testing.assert_allclose(figures["sd"], np.sqrt(payoffs**2 @ chances - means**2))

    def test_perfect_information_is_the_mean_of_the_best_less_the_best_mean(self):
        for seed in range(10):
            payoffs, chances, decision = table(seed)
            worth = decision.perfect_information().loc["event market", "worth"]
            self.assertAlmostEqual(worth, payoffs.max(axis=0) @ chances - (payoffs @ chances).max())

    def test_a_test_is_worth_what_its_posterior_means_gain(self):
        for seed in range(10):
            payoffs, chances, decision = table(seed)
            positive = np.random.default_rng(seed + 100).uniform(0, 1, 4)
            given = {f"s{i}": share for i, share in enumerate(positive)}
            test = decision.sample_information_value(
                "market", {"yes": given, "no": {name: 1 - share for name, share in given.items()}}
            )
            joint = np.array([positive * chances, (1 - positive) * chances])
            gain = (payoffs @ joint.T).max(axis=0).sum() - (payoffs @ chances).max()
            self.assertAlmostEqual(test.attrs["worth"], gain)
            np.testing.assert_allclose(test["chance"], joint.sum(axis=1))
            self.assertLessEqual(
                gain, decision.perfect_information().loc["event market", "worth"] + 1e-9
            )

    def test_regret_is_the_gap_to_the_best_of_each_state(self):
        for seed in range(4):
            payoffs, chances, decision = table(seed)
            regret = (payoffs.max(axis=0) - payoffs) @ chances
            found = decision.solve(trials=40_000).regret()["mean"]
            np.testing.assert_allclose(found, regret, atol=1.5)

    def test_dominance_is_that_of_the_cumulative_chances(self):
        grid = np.arange(-50, 51.0)
        seen = set()
        for seed in range(30):
            payoffs, chances, decision = table(seed, alternatives=2, states=2)
            below = np.array([[(chances * (row <= at)).sum() for at in grid] for row in payoffs])
            area = below.cumsum(axis=1)
            found = decision.solve(trials=100).dominance()
            for a, b in ((0, 1), (1, 0)):
                first = (below[a] <= below[b] + 1e-12).all() and (below[a] < below[b] - 1e-12).any()
                second = (area[a] <= area[b] + 1e-9).all() and (area[a] < area[b] - 1e-9).any()
                answer = found.loc[(f"a{a}", f"a{b}")]
                self.assertEqual(
                    (bool(answer["first order"]), bool(answer["second order"])),
                    (first, second),
                    (seed, a, b),
                )
                seen.add((first, second))
        self.assertEqual(seen, {(True, True), (False, True), (False, False)})

    def test_less_is_better_mirrors_more_is_better(self):
        for seed in range(6):
            payoffs, chances, decision = table(seed)
            mirrored = decision_of(-payoffs, chances, better="low")
            more, less = decision.solve(trials=100), mirrored.solve(trials=100)
            self.assertEqual((more.best, float(more.value)), (less.best, -float(less.value)))
            worth = [
                one.perfect_information().loc["event market", "worth"]
                for one in (decision, mirrored)
            ]
            self.assertAlmostEqual(worth[0], worth[1])
            self.assertAlmostEqual(
                float(more.regret().loc["a0", "mean"]), float(less.regret().loc["a0", "mean"])
            )

    def test_tails_are_means_of_the_worst_part(self):
        for seed in range(6):
            payoffs, chances, decision = table(seed)
            found = decision.solve("expected shortfall", level=0.7)
            for i, row in enumerate(payoffs):
                order = np.argsort(row)
                within = np.diff(np.minimum(np.cumsum(np.r_[0, chances[order]]), 0.3))
                self.assertAlmostEqual(
                    float(found.parts[f"a{i}",].value), row[order] @ within / 0.3
                )

    def test_lines_cross_where_they_are_equal(self):
        for seed in range(6):
            (a, b), (c, d) = np.random.default_rng(seed).uniform(-10, 10, (2, 2))
            crossing = (c - a) / (b - d)
            decision = kd.Decision(
                "d", {"one": f"{a} + {b} * x", "two": f"{c} + {d} * x"}, given={"x": 0.0}
            )
            found = decision.switchover_points("x", crossing - 3, crossing + 2)
            self.assertEqual(len(found), 1)
            self.assertAlmostEqual(found.iloc[0, 0], crossing, places=6)
            self.assertEqual(len(decision.switchover_points("x", crossing + 1, crossing + 2)), 0)
