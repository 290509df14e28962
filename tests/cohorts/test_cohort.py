"""Tests of cohorts."""

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.cohorts.binomials import binomial_quantile, split
from tests.common import Case, proof

STATES = ["sailing", "restricted", "in dock", "sold"]
CHANCES = {
    "sailing": {"restricted": 0.06, "in dock": 0.05, "sold": 0.01},
    "restricted": {"sailing": 0.5, "in dock": 0.2},
    "in dock": {"sailing": 0.7, "sold": 0.05},
}
START = {"sailing": 36, "restricted": 3, "in dock": 1}
FLEET = kd.Cohort(STATES, START, CHANCES, remainder_state="same")
MATRIX = np.array(
    [[0.88, 0.06, 0.05, 0.01], [0.5, 0.3, 0.2, 0], [0.7, 0, 0.25, 0.05], [0, 0, 0, 1]]
)


class Binomials(Case):
    def test_quantiles_are_scipys_for_few_and_for_many_things(self):
        u = np.random.default_rng(1).random(4000)
        for n, p in (
            (27, 0.1),
            (300, 0.3),
            (5, 0.9),
            (400, 0.999),
            (10_000, 0.02),
            (10**6, 0.5),
            (10**9, 0.001),
            (40, 1e-6),
        ):
            with self.subTest(n=n, p=p):
                np.testing.assert_array_equal(
                    binomial_quantile(u, np.full(4000, float(n)), p), stats.binom.ppf(u, n, p)
                )
        n, p = (
            np.random.default_rng(2).integers(0, 60, 4000).astype(float),
            np.random.default_rng(3).random(4000),
        )
        np.testing.assert_array_equal(binomial_quantile(u, n, p), stats.binom.ppf(u, n, p))

    def test_split_scores_are_uniform_and_unrelated(self):
        u = np.random.default_rng(4).random(20_000)
        parts = np.array([split(u, number) for number in range(6)])
        for part in parts:
            self.assertGreater(stats.kstest(part, "uniform").pvalue, 1e-3)
        gaps = np.corrcoef(parts) - np.eye(6)
        self.assertLess(np.abs(gaps).max(), 4.5 / np.sqrt(20_000))


class Counts(Case):
    def test_means_and_covariances_are_the_closed_ones(self):
        cohort = kd.Cohort(
            STATES, START, CHANCES, remainder_state="same", arrivals={"sailing": [2, 0, 1, 0, 0, 0]}
        )
        counts = cohort.counts(6, 40_000, seed=3)
        exact = np.zeros(4)
        exact[:3] = 36, 3, 1
        for t in range(6):
            exact = exact @ MATRIX
            exact[0] += [2, 0, 1, 0, 0, 0][t]
        np.testing.assert_allclose(cohort.expected(6)[6], exact)
        spread = counts[:, 6].std(axis=1) / 200
        self.assertTrue((np.abs(counts[:, 6].mean(axis=1) - exact) < 4.2 * spread).all())
        np.testing.assert_allclose(np.cov(counts[:, 6]), cohort.covariance(6), atol=0.15)
        np.testing.assert_array_equal(counts.sum(axis=0)[-1], 43)
        one = kd.Cohort(["a", "b"], {"a": 20}, {"a": {"b": 0.3}}, remainder_state="same").counts(
            1, 20_000, seed=5
        )[1, 1]
        seen = np.bincount(one.astype(int), minlength=21)[:13]
        expected = 20_000 * stats.binom.pmf(np.arange(13), 20, 0.3)
        self.assertGreater(stats.chi2.sf((((seen - expected) ** 2) / expected).sum(), 12), 1e-3)

    def test_a_small_change_of_a_chance_moves_few_things(self):
        other = kd.Cohort(
            STATES,
            START,
            {**CHANCES, "sailing": {"restricted": 0.07, "in dock": 0.05, "sold": 0.01}},
            remainder_state="same",
        )
        a, b = FLEET.simulate(5, 5000, seed=1), other.simulate(5, 5000, seed=1)
        paired = b.against(a).loc[("restricted", 5)]
        unpaired = other.simulate(5, 5000, seed=2).against(a).loc[("restricted", 5)]
        self.assertLess(paired["error"], unpaired["error"] / 3)
        gap = other.expected(5).loc["restricted", 5] - FLEET.expected(5).loc["restricted", 5]
        self.assertLess(abs(paired["difference"] - gap), 2 * paired["error"])

    def test_moves_of_a_trial_add_up(self):
        result = FLEET.simulate(8, 9000, seed=4)
        for trial in (0, 8500):
            moves = result.moves(trial)
            for state in STATES:
                gone = moves[moves.index.str.startswith(f"{state} ->")].sum()
                come = moves[moves.index.str.endswith(f"-> {state}")].sum()
                counts = result[state][:, trial]
                np.testing.assert_array_equal(np.diff(counts), come - gone)
        self.assertEqual(result.table().loc[("sailing", 0), "mean"], 36)

    def test_errors_of_means_are_those_of_independent_trials(self):
        result = FLEET.simulate(3, 400, seed=4)
        counts = result["in dock"][3]
        row = result.table().loc[("in dock", 3)]
        self.assertAlmostEqual(row["sd"], counts.std(ddof=1))
        self.assertAlmostEqual(row["error"], stats.norm.ppf(0.975) * counts.std(ddof=1) / 20)

    def test_one_trial_has_no_spread(self):
        table = FLEET.simulate(3, 1, seed=4).table()
        self.assertEqual((table["sd"].max(), table["error"].max()), (0.0, 0.0))

    def test_departures_age_and_chances_by_period(self):
        leaving = kd.Cohort(
            ["a", "b"], {"a": 5}, {"a": {"b": 0.0}}, remainder_state="same", departures={"a": 2}
        )
        np.testing.assert_array_equal(leaving.counts(4, 3, seed=1)[0, :, 0], [5, 3, 1, 0, 0])
        turn = kd.Cohort(["a", "b"], {"a": 5}, [[[0, 1], [0, 1]], [[1, 0], [1, 0]]])
        np.testing.assert_array_equal(turn.counts(2, 3, seed=1)[:, :, 0], [[5, 0, 5], [0, 5, 0]])
        aged = FLEET.by_age("in dock", [{"sailing": 0.0}, {"sailing": 0.9}])
        self.assertEqual(
            list(aged.states), ["sailing", "restricted", "in dock 1", "in dock 2", "sold"]
        )
        np.testing.assert_allclose(aged.array()[2], [0, 0, 0, 1, 0])
        self.assertAlmostEqual(aged.array()[3, 3], 0.1)


class ClosedForms(Case):
    def test_reaching_a_state_is_the_fundamental_matrix(self):
        found = FLEET.reaching("sold", periods=5)
        inside = np.linalg.inv(np.eye(3) - MATRIX[:3, :3])
        np.testing.assert_allclose(found.mean.iloc[:3], inside @ np.ones(3))
        np.testing.assert_allclose(found.chance, 1)
        np.testing.assert_allclose(found.by[5], np.linalg.matrix_power(MATRIX, 5)[:, 3])
        np.testing.assert_allclose(FLEET.time_in_states().iloc[:3, :3], inside)
        self.assertTrue(np.isinf(FLEET.time_in_states().loc["sailing", "sold"]))
        two = kd.Cohort(
            ["a", "won", "lost"], {"a": 1}, {"a": {"won": 0.2, "lost": 0.3}}, remainder_state="same"
        )
        self.assertAlmostEqual(two.reaching("won").chance["a"], 0.4)
        self.assertAlmostEqual(two.reaching("won").mean["a"], 2.0)

    def test_the_long_run(self):
        open_ = kd.Cohort(
            ["a", "b"], {"a": 9}, {"a": {"b": 0.1}, "b": {"a": 0.3}}, remainder_state="same"
        )
        np.testing.assert_allclose(open_.steady_state(), [0.75, 0.25])
        self.assertEqual(FLEET.steady_state()["sold"], 1.0)
        with self.fails("depends on the start", "{won} and {lost}"):
            kd.Cohort(
                ["a", "won", "lost"], {"a": 1}, {"a": {"won": 0.2, "lost": 0.8}}
            ).steady_state()

    def test_sensitivity_is_the_derivative(self):
        found = FLEET.sensitivity("in dock", 6, change=0.01, trials=4000)
        for move, row in found.iterrows():
            i, j = (STATES.index(part) for part in move.split(" -> "))
            ends = []
            for step in (1e-5, -1e-5):
                moved = MATRIX.copy()
                moved[i, j] += step
                moved[i, i] -= step
                ends.append((np.array([36, 3, 1, 0]) @ np.linalg.matrix_power(moved, 6))[2])
            with self.subTest(move):
                self.assertAlmostEqual(row["derivative"], (ends[0] - ends[1]) / 2e-5, places=4)
                self.assertLess(abs(row["simulated"] - row["effect"]), 2.2 * row["error"] + 1e-9)

    def test_sensitivity_moves_every_chance_that_stays_from_0_to_1(self):
        for change in (0.06, -0.06):
            moved = {
                f"{STATES[i]} -> {STATES[j]}"
                for i in range(4)
                for j in range(4)
                if i != j and 0 <= MATRIX[i, j] + change <= 1 and 0 <= MATRIX[i, i] - change <= 1
            }
            found = FLEET.sensitivity("in dock", 2, change=change, trials=10)
            self.assertEqual(set(found.index), moved)


class MomentSettings(Case):
    def test_chances_are_shares_and_errors_hold(self):
        counts = pd.DataFrame({"a": [80, 10], "b": [20, 40]}, index=["a", "b"])
        found = kd.Cohort.fit(counts, start={"a": 30})
        np.testing.assert_allclose(found.array(), [[0.8, 0.2], [0.2, 0.8]])
        gaps, errors = [], []
        rng = np.random.default_rng(1)
        for _ in range(100):
            seen = rng.multinomial(80, [0.7, 0.3])
            made = kd.Cohort.fit(
                {"a": {"a": seen[0], "b": seen[1]}, "b": {"a": 1, "b": 1}}, start={"a": 1}
            )
            gaps.append(made.array()[0, 1] - 0.3)
            errors.append(1.96 * made.fitted.standard_errors[0, 1])
        self.assertCalibrated(gaps, errors)

    def test_a_table_of_things_by_date(self):
        rng = np.random.default_rng(2)
        rows = []
        for thing in range(400):
            state = 0
            for date in range(8):
                rows.append((thing, f"20{10 + date}-01-01", "ab"[state]))
                state = int(rng.random() < [[0.2, 0.7], [0.2, 0.7]][date % 2][state])
        table = pd.DataFrame(rows, columns=["thing", "date", "state"])
        found = kd.Cohort.fit(table)
        self.assertAlmostEqual(found.array()[0, 1], 0.2, delta=0.03)
        self.assertGreater(found.fitted.changed, 0.001)
        self.assertEqual(sum(found.start.values()), 400)
        table.loc[table["date"] > "2014", "state"] = "a"
        self.assertEqual(kd.Cohort.fit(table).fitted.changed, 1 / 2000)
        with self.fails("two states at"):
            kd.Cohort.fit(pd.concat([table, table.iloc[:1]]))

    def test_uncertain_chances_spread_wider_in_a_model(self):
        found = kd.Cohort.fit({"a": {"a": 16, "b": 4}, "b": {"b": 20}}, start={"a": 200})
        spread = []
        for uncertain in (False, True):
            model = kd.Model("x", periods=1)
            model.cohort("x", found, uncertain=uncertain)
            model.outcome("y", "last(x_b)")
            spread.append(float(model.simulate(6000, seed=1)["y"].sd))
        self.assertAlmostEqual(spread[0], np.sqrt(200 * 0.2 * 0.8), delta=0.3)
        beta = stats.betabinom(200, 4, 16).std()
        self.assertAlmostEqual(spread[1], beta, delta=0.06 * beta)


class Models(Case):
    def test_rows_values_and_calculated_chances(self):
        model = kd.load_model(kd.demo_file("vessels.toml"))
        base = model.base_case()
        wear = base.loc["wear", "value"]
        self.assertAlmostEqual(
            base.loc["fleet_sailing"].iloc[1], 36 * (0.99 - 0.11 * wear) + 3 * 0.45 + 0.7
        )
        run = model.simulate(1500, seed=1)
        counts = {
            name: run.row(f"fleet_{name}").values
            for name in ("sailing", "restricted", "in_dock", "sold")
        }
        np.testing.assert_array_equal(sum(counts.values()), 40)
        sheet = run.trial(7)
        self.assertTrue(all(value == int(value) for value in sheet.loc["fleet_sold"].iloc[1:]))
        self.assertLess(run.sensitivity("worth").loc["wear", "rank correlation"], -0.3)
        shares = run.sensitivity("worth", "contributions")["share"]  # some trials at the base score
        self.assertAlmostEqual(shares.sum(), 1)
        self.assertGreater(shares["fleet_moves"], 0.2)

    def test_a_file_gives_the_same_bits_again(self):
        from kindynos.model.file import model_from_text

        model = kd.load_model(kd.demo_file("vessels.toml"))
        again = model_from_text(model.to_toml())
        np.testing.assert_array_equal(
            again.simulate(500, seed=2)["worth"].values, model.simulate(500, seed=2)["worth"].values
        )

    def test_a_value_without_moves_is_counts_times_amounts(self):
        model = kd.Model("x", periods=4)
        model.cohort(
            "f",
            kd.Cohort(
                STATES, START, CHANCES, remainder_state="same", value={"sailing": 10.0, "sold": 1.0}
            ),
        )
        model.outcome("v", "total(f_value)")
        model.outcome("w", "total(f_sailing) * 10 + total(f_sold)")
        run = model.simulate(300, seed=1)
        np.testing.assert_allclose(run["v"].values, run["w"].values)
        model.cohort(
            "f",
            kd.Cohort(
                STATES, START, CHANCES, remainder_state="same", value={"sailing": 10.0, "sold": 1.0}
            ),
        )  # the same again

    def test_bad_input(self):
        def cohort(chances, **options):
            return kd.Cohort(["a", "b"], {"a": 3}, chances, **options)

        model = kd.Model("x", periods=3)
        for ask, words in (
            (lambda: cohort({"a": {"a": 0.5, "b": 0.4}}), "row 'a' adds up to 0.9"),
            (lambda: cohort({"a": {"b": 1.4}}, remainder_state="same"), "from 0 to 1"),
            (lambda: cohort({"a": {"b": -0.1}}, remainder_state="same"), "from 0 to 1"),
            (lambda: cohort({"a": {"c": 0.1}}, remainder_state="same"), "goes to 'c'"),
            (lambda: cohort({"c": {"a": 1}}), "a row for 'c'"),
            (lambda: cohort(np.eye(3)), "2 by 2"),
            (
                lambda: cohort({"a": {"b": 0.1}}, remainder_state="c"),
                "remainder_state names no state 'c'",
            ),
            (lambda: kd.Cohort(["a", "b"], {"c": 3}, np.eye(2)), "start names no state 'c'"),
            (lambda: kd.Cohort(["a", "b"], {"a": 2.5}, np.eye(2)), "whole number"),
            (
                lambda: kd.Cohort(["a", "b"], {"a": 2_000_000_000}, np.eye(2)),
                "at most 1,000,000,000",
            ),
            (lambda: kd.Cohort(["a", "a"], {"a": 1}, np.eye(2)), "twice"),
            (lambda: cohort(np.eye(2), cost={"a": 3}), "is not a move"),
            (lambda: cohort({"a": {"b": "0.1 * wear"}}), "remainder_state="),
            (lambda: cohort({"a": {"b": "wear.x"}}, remainder_state="same").names, "may use"),
            (
                lambda: cohort({"a": {"b": "0.1 * wear"}}, remainder_state="same").counts(3, 10, 1),
                "needs wear",
            ),
            (lambda: kd.Model("x").cohort("f", FLEET), "needs a model with periods"),
            (lambda: model.cohort("f", FLEET, uncertain=True), "needs a cohort that was fitted"),
            (lambda: FLEET.reaching("lost"), "no state 'lost'"),
            (lambda: FLEET.simulate(3, 10, seed=1).moves(10), "from 0 to 9"),
            (lambda: FLEET.simulate(3, 10, seed=1).plot("pie"), "fans"),
        ):
            with self.subTest(words), self.fails(words):
                ask()
        model.given(wear=12.0)
        model.cohort("g", cohort({"a": {"b": "0.1 * wear"}}, remainder_state="same"))
        model.outcome("y", "last(g_a)")
        with self.fails("row 'a' to 'a'", "-0.2"):
            model.simulate(100, seed=1)

    def test_a_model_file_names_its_mistakes(self):
        from kindynos.model.file import model_from_text

        head = (
            '[model]\nname = "x"\nperiods = 3\n[cohorts.f]\nstates = ["a", "b"]\nstart = { a '
            "= 3 }\n"
        )
        for text, words in (
            ("[cohorts.f.a]\nb = 0.5\n", "adds up to 0.5"),
            ("[cohorts.f.c]\nb = 0.5\n", "a row for 'c'"),
            ("rst = 1\n", "no key 'rst'"),
        ):
            with self.subTest(words), self.fails("[cohorts.f]", words):
                model_from_text(head + text + '[outcomes]\ny = "last(f_a)"')

    def test_check_shows_the_chances_and_warns(self):
        from tests.common import run

        answer = run("check", str(kd.demo_file("vessels.toml")))
        self.assertIn("Cohort fleet: chances a period", answer.stdout)
        self.assertIn("0.06 * wear", answer.stdout)
        from kindynos.cohorts.chain import findings

        lost = kd.Cohort(["a", "b", "c"], {"a": 1}, {"a": {"b": 0.1}}, remainder_state="same")
        self.assertEqual(
            findings(lost),
            ["nothing leaves 'b'", "nothing ever comes to 'c'", "nothing leaves 'c'"],
        )


class Changes(Case):
    def test_the_test_of_a_change_is_the_likelihood_ratio_of_a_table(self):
        rng = np.random.default_rng(1)
        states = np.array(["a", "b", "c"])
        records = [
            {"thing": thing, "date": date, "state": state}
            for thing in range(80)
            for date, state in enumerate(states[rng.integers(0, 3, 4)])
        ]
        found = kd.Cohort.fit(pd.DataFrame(records)).fitted.changed
        frame = pd.DataFrame(records).sort_values(["thing", "date"])
        frame["before"] = frame.groupby("thing")["state"].shift()
        statistic, degrees = 0.0, 0
        for _, part in frame.dropna().groupby("before"):
            table = pd.crosstab(part["date"], part["state"])
            answer = stats.chi2_contingency(table, correction=False, lambda_="log-likelihood")
            statistic, degrees = statistic + answer.statistic, degrees + answer.dof
        # chi-square holds for large counts, and is a little too small here
        self.assertAlmostEqual(found, stats.chi2.sf(statistic, degrees), delta=0.05)

    @proof
    def test_its_size_in_small_tables(self):
        rng = np.random.default_rng(3)
        p = []
        for _ in range(200):
            states = np.where(rng.random((12, 7)) < 0.2, "b", "a")
            table = pd.DataFrame(
                [(i, date, states[i, date]) for i in range(12) for date in range(7)],
                columns=["thing", "date", "state"],
            )
            p.append(kd.Cohort.fit(table).fitted.changed)
        self.assertGreater(stats.binomtest(int((np.array(p) <= 0.1).sum()), 200, 0.1).pvalue, 0.01)
        exact = kd.Cohort.fit(
            pd.DataFrame(
                [(f"{date}{i}", date + step, state)
                 for date, moves in ((0, "aaab"), (10, "bbba"))
                 for i, move in enumerate(moves)
                 for step, state in ((0, "a"), (1, move))],
                columns=["thing", "date", "state"],
            )
        )  # fmt: skip
        self.assertEqual(exact.fitted.counts[0].tolist(), [4, 4])
        # Fisher's exact test of the table ((3, 1), (1, 3)), by all tables as unlikely
        fisher = stats.fisher_exact([[3, 1], [1, 3]]).pvalue
        self.assertAlmostEqual(exact.fitted.changed, fisher, delta=0.03)

    def test_a_gap_in_the_dates_is_no_move(self):
        months = [f"2024-{month:02d}-01" for month in range(1, 7)]
        rows = [("full", month, "a") for month in months]
        rows += [("gap", month, "b" if month > "2024-03" else "a") for month in months[:2]]
        rows += [("gap", month, "b") for month in months[3:]]
        with self.assertWarnsRegex(kd.DataWarning, "1 pair of states is not counted"):
            found = kd.Cohort.fit(pd.DataFrame(rows, columns=["thing", "date", "state"]))
        self.assertEqual(found.fitted.counts.tolist(), [[6, 0], [0, 2]])
        self.assertEqual(found.fitted.left_out, 1)
        # and where no thing has the date
        everyone = pd.DataFrame(rows, columns=["thing", "date", "state"])
        with self.assertWarnsRegex(kd.DataWarning, "2 pairs of states are not counted"):
            found = kd.Cohort.fit(everyone[everyone["date"] != "2024-03-01"])
        self.assertEqual(found.fitted.counts.tolist(), [[4, 0], [0, 2]])
        self.assertEqual(found.fitted.left_out, 2)
        apart = pd.DataFrame(
            [(thing, thing + 10 * date, "ab"[date]) for thing in (1, 2, 3) for date in (0, 1)],
            columns=["thing", "date", "state"],
        )
        with self.fails("no moves from one date to the next; the dates must be"):
            kd.Cohort.fit(apart)
