"""Tests of decisions."""

import itertools
import tempfile
from pathlib import Path

import numpy as np

import kindynos as kd
from tests.common import Case


def wildcat(**options):
    """A textbook case: drill for oil or walk away; mean 20, perfect information 35, a seismic test
    12.5.
    """
    oil = kd.Event("oil", {"dry": (0.5, -70.0), "wet": (0.3, 50.0), "soaking": ("rest", 200.0)})
    return kd.Decision("drill", {"drill": oil, "walk away": 0.0}, **options)


SEISMIC = {
    "no structure": {"dry": 0.6, "wet": 0.3, "soaking": 0.1},
    "open": {"dry": 0.3, "wet": 0.4, "soaking": 0.4},
    "closed": {"dry": 0.1, "wet": 0.3, "soaking": 0.5},
}


def random_tree(rng, depth, names):
    if depth == 0 or rng.random() < 0.15:
        return float(rng.integers(-50, 50))
    kind = "choice" if rng.random() < 0.5 else "event"
    names[0] += 1
    number = names[0]
    inner = [random_tree(rng, depth - 1, names) for _ in range(int(rng.integers(2, 4)))]
    if kind == "choice":
        return kd.Choice(f"c{number}", {str(i): node for i, node in enumerate(inner)})
    chances = rng.dirichlet(np.ones(len(inner))).tolist()
    return kd.Event(
        f"e{number}", {str(i): (chances[i] if i else "rest", node) for i, node in enumerate(inner)}
    )


def policies(node):
    """All values that a tree can have, one for each way to choose in it."""
    if isinstance(node, kd.Choice):
        return [value for inner in node.alternatives.values() for value in policies(inner)]
    if isinstance(node, kd.Event):
        chances = [chance for chance, _ in node.outcomes.values()]
        chances = [
            1 - sum(c for c in chances if c != "rest") if chance == "rest" else chance
            for chance in chances
        ]
        parts = [policies(inner) for _, inner in node.outcomes.values()]
        return [
            sum(c * v for c, v in zip(chances, chosen, strict=True))
            for chosen in itertools.product(*parts)
        ]
    return [node.amount]


class Rollback(Case):
    def test_it_finds_the_best_of_all_policies(self):
        for seed in range(12):
            rng = np.random.default_rng(seed)
            decision = kd.Decision(
                "any", {"a": random_tree(rng, 4, [0]), "b": random_tree(rng, 3, [50])}
            )
            every = policies(decision.root)
            with self.subTest(seed, policies=len(every)):
                self.assertAlmostEqual(float(decision.solve().value), max(every))
                self.assertEqual(decision.solve().value.error, 0)

    def test_textbook_values(self):
        found = wildcat().solve()
        self.assertEqual(found.best, "drill")
        self.assertAlmostEqual(float(found.value), 20.0)
        worth = wildcat().perfect_information()
        self.assertAlmostEqual(worth.loc["event oil", "worth"], 35)
        test = wildcat().sample_information_value("oil", SEISMIC)
        self.assertAlmostEqual(test.attrs["worth"], 12.5)
        self.assertAlmostEqual(test.loc["closed", "chance of soaking"], 0.1 / 0.24)
        self.assertEqual(list(test["best"]), ["walk away", "drill", "drill"])

    def test_drawn_payoffs_have_errors_that_hold(self):
        gaps, errors = [], []
        for seed in range(80):
            decision = kd.Decision(
                "x",
                {"a": kd.Event("e", {"up": ("p", "10 * q"), "down": ("rest", kd.Normal(1, 3))})},
                given={"p": kd.Beta(3, 7), "q": kd.Normal(2, 1)},
            )
            value = decision.solve(trials=1000, seed=seed).value
            gaps.append(value - (0.3 * 20 + 0.7 * 1))
            errors.append(value.error)
        self.assertCalibrated(gaps, errors)

    def test_a_later_choice_knows_the_event_and_not_the_draw(self):
        later = kd.Choice("later", {"go": "q", "stay": 0.0})
        decision = kd.Decision("x", {"a": later}, given={"q": kd.Normal(1, 10)})
        # not the mean of max(q, 0)
        self.assertAlmostEqual(float(decision.solve(trials=20_000).value), 1.0, delta=0.3)
        signal = kd.Event(
            "signal",
            {
                "good": ("q", kd.Choice("later", {"go": "200 * q - 100", "stay": 0.0})),
                "bad": ("rest", 0.0),
            },
        )
        answer = kd.Decision("x", {"a": signal}, given={"q": kd.Uniform(0, 1)}).solve(trials=40_000)
        # Seen the good signal, q has density 2q, so that going brings 100/3 half of the time.
        self.assertAlmostEqual(float(answer.value), 100 / 6, delta=0.8)
        self.assertEqual(answer.policy["a", "good"], "go")

    def test_risk_aversion_and_percentiles(self):
        careful = wildcat(risk_tolerance=50.0)
        found = careful.solve("certainty equivalent")
        utility = 0.5 * np.exp(70 / 50) + 0.3 * np.exp(-1) + 0.2 * np.exp(-4)
        self.assertEqual(found.best, "walk away")
        self.assertAlmostEqual(float(found.parts["drill",].value), -50 * np.log(utility))
        log = wildcat(utility=lambda x: np.log(x + 100))
        expected = np.exp(0.5 * np.log(30) + 0.3 * np.log(150) + 0.2 * np.log(300)) - 100
        self.assertAlmostEqual(
            float(log.solve("certainty equivalent").parts["drill",].value), expected, places=6
        )
        low = wildcat().solve("percentile", level=0.4)
        self.assertEqual((low.best, float(low.parts["drill",].value)), ("walk away", -70))
        self.assertIn("not consistent over time", low.words)
        tail = wildcat().solve("expected shortfall", level=0.6)
        self.assertAlmostEqual(float(tail.parts["drill",].value), -70)
        with self.fails("level", "say 0.95 for the worst 5 %"):
            wildcat().solve("expected shortfall", level=0.05)
        cost = kd.Decision("cost", {"a": 5.0, "b": 3.0}, better="low").solve()
        self.assertEqual((cost.best, float(cost.value)), ("b", 3.0))

    def test_profiles_and_comparisons(self):
        found = wildcat().solve(trials=20_000)
        profile = found.profile("drill")
        np.testing.assert_allclose(
            profile[["payoff", "chance"]], [[-70, 0.5], [50, 0.3], [200, 0.2]]
        )
        self.assertAlmostEqual(
            found.table().loc["drill", "sd"], np.sqrt(0.5 * 90**2 + 0.3 * 30**2 + 0.2 * 180**2)
        )
        self.assertAlmostEqual(found.beats().loc["drill", "walk away"], 0.5, delta=0.012)
        with self.fails("beats: errors must be True or False"):
            found.beats(errors=[])
        self.assertAlmostEqual(found.regret().loc["drill", "mean"], 35, delta=1.0)
        same = kd.Event(
            "oil", {"dry": (0.5, -69.0), "wet": (0.3, 51.0), "soaking": ("rest", 201.0)}
        )
        better = kd.Decision("x", {"a": same, "b": wildcat().alternatives["drill"]}).solve()
        self.assertEqual(better.beats().loc["a", "b"], 1.0)  # events of one name turn out alike
        self.assertTrue(better.dominance().loc[("a", "b"), "first order"])

    def test_switching_values_are_solved_for(self):
        permit = kd.Event("permit", {"granted": ("p", 9.0), "refused": ("rest", -6.0)})
        decision = kd.Decision("x", {"buy": permit, "stay": 1.5}, given={"p": 0.5})
        found = decision.switchover_points("p", 0.0, 1.0)
        self.assertEqual(list(found.iloc[0]), [0.5, "stay", "buy"])
        self.assertEqual(list(decision.sweep("p", [0.2, 0.9])["best"]), ["stay", "buy"])

    def test_knowing_a_quantity(self):
        decision = kd.Decision("x", {"go": "q", "stay": 0.0}, given={"q": kd.Normal(0.5, 2)})
        worth = decision.perfect_information(trials=40_000)
        z = 0.25
        exact = 2 * (np.exp(-z * z / 2) / np.sqrt(2 * np.pi)) + 0.5 * 0.598706 - 0.5
        self.assertAlmostEqual(worth.loc["q", "worth"], exact, delta=0.04)
        self.assertAlmostEqual(worth.loc["everything", "worth"], exact, delta=0.04)
        useless = kd.Decision("x", {"go": "q + 20", "stay": 0.0}, given={"q": kd.Normal(0, 1)})
        self.assertAlmostEqual(useless.perfect_information().loc["q", "worth"], 0, delta=0.02)

    def test_models_and_runs_are_payoffs(self):
        model = kd.Model("m")
        model.driver("x", kd.Normal(5, 2))
        model.outcome("y", "2 * x")
        run = model.simulate(4000, seed=1)
        found = kd.Decision("d", {"a": run["y"], "b": 9.0}).solve(trials=4000)
        self.assertAlmostEqual(float(found.value), float(run["y"].mean))
        with self.fails("has 4,000 trials"):
            kd.Decision("d", {"a": run["y"]}).solve(trials=5000)


class Criteria(Case):
    def test_a_score_combines_them(self):
        decision = kd.Decision(
            "x",
            {"a": {"money": 10.0, "days": 4.0}, "b": {"money": 8.0, "days": 1.0}},
            criteria={"money": "EUR", "days": "day"},
            score="money - 0.9 * days",
        )
        self.assertEqual(
            (decision.solve().best, round(float(decision.solve().value), 6)), ("b", 7.1)
        )
        found = kd.pairwise_weights({("money", "days"): 2, ("money", "air"): 4, ("days", "air"): 3})
        matrix = np.array([[1, 2, 4], [0.5, 1, 3], [0.25, 1 / 3, 1]])
        values, vectors = np.linalg.eig(matrix)
        vector = np.abs(vectors[:, values.real.argmax()].real)
        np.testing.assert_allclose(list(found.weights.values()), vector / vector.sum())
        self.assertAlmostEqual(found.consistency_ratio, (values.real.max() - 3) / 2 / 0.58)

    def test_bad_input(self):
        def event(**chances):
            return kd.Event("e", {name: (chance, 1.0) for name, chance in chances.items()})

        two = {"criteria": {"money": "EUR", "days": "day"}}
        for ask, words in (
            (lambda: event(a=0.5, b=0.4), "add up to 0.9"),
            (lambda: event(a=0.7, b=0.4, c="rest"), "1.1 already"),
            (lambda: event(a=-0.1, b=1.1), "from 0 to 1"),
            (lambda: event(a="p", b="q"), "'rest'"),
            (lambda: kd.Event("e", {}), "at least one outcome"),
            (lambda: kd.Choice("c", {}), "at least one alternative"),
            (lambda: kd.Event("e", {"a": 3.0}), "a chance and what follows"),
            (lambda: kd.Decision("d", {"a": kd.Choice("d", {"b": 1.0})}), "no circles"),
            (lambda: kd.Decision("d", {"a": "price * 2"}), "'price' is not stated"),
            (
                lambda: kd.Decision(
                    "d", {"a": event(x=1.0), "b": kd.Event("e", {"x": (0.5, 1), "y": (0.5, 2)})}
                ),
                "other chances",
            ),
            (lambda: kd.Decision("d", {"a": {"money": 1.0}}, **two), "need score="),
            (
                lambda: kd.Decision("d", {"a": {"money": 1.0}}, score="money + days", **two),
                "money (EUR) to days (day)",
            ),
            (
                lambda: kd.Decision("d", {"a": {"mony": 1.0}}, score="money", **two),
                "did you mean 'money'",
            ),
            (
                lambda: kd.Decision("d", {"a": 1.0}, risk_tolerance=-1).solve(
                    "certainty equivalent"
                ),
                "above 0",
            ),
            (lambda: wildcat().solve("certainty equivalent"), "needs risk_tolerance="),
            (lambda: wildcat(utility=lambda x: -x).solve("certainty equivalent"), "increasing"),
            (lambda: wildcat().solve("median"), "by"),
            (
                lambda: wildcat().sample_information_value("oil", {"yes": {"dry": 1, "wet": 1}}),
                "given 'soaking'",
            ),
            (lambda: wildcat().sample_information_value("gas", {}), "no event 'gas'"),
            (lambda: wildcat().switchover_points("price", 0, 1), "no given quantity"),
            (lambda: wildcat().solve().profile("dril"), "did you mean 'drill'"),
            (
                lambda: wildcat().solve("percentile").decision.perfect_information(by="percentile"),
                "certainty equivalent",
            ),
            (lambda: kd.pairwise_weights({("a", "b"): 2, ("b", "c"): 2}), "are not compared"),
        ):
            with self.subTest(words), self.fails(words):
                ask()


class Waiting(Case):
    def test_a_put_is_worth_its_published_value_and_never_more(self):
        # Longstaff and Schwartz (2001), table 1: 4.478 by finite differences, 3.844 if it cannot
        # wait.
        price = kd.GeometricBrownianMotion(36.0, 0.06, 0.2).paths(50, 60_000, seed=2, dt=1 / 50)
        found = kd.value_of_waiting(np.maximum(40 - price, 0), price, discount=np.exp(-0.06 / 50))
        self.assertLess(found.value - 4.478, found.value.error)
        self.assertGreater(found.value, 4.40)
        self.assertLess(abs(found.at_end - 3.844), 1.5 * found.at_end.error)
        self.assertEqual(found.at_start, 4.0)
        self.assertAlmostEqual(found.worth_of_waiting, found.value - 4.0)

    def test_the_better_of_two_assets(self):
        # Broadie and Glasserman, Mathematical and Computer Modelling 40 (2004): 13.902.
        one = kd.GeometricBrownianMotion(100.0, -0.05, 0.2)
        paths = kd.PathSet({"a": one, "b": one}).paths(9, 60_000, seed=3, dt=1 / 3)
        found = kd.value_of_waiting(
            np.maximum(paths.max(axis=0) - 100, 0), paths, discount=np.exp(-0.05 / 3)
        )
        self.assertLess(found.value - 13.902, found.value.error)
        self.assertGreater(found.value, 13.5)

    def test_bad_input(self):
        with self.fails("payoffs must be"):
            kd.value_of_waiting(np.ones((3, 500)), np.ones((4, 500)))
        with self.fails("at least 400 trials"):
            kd.value_of_waiting(np.ones((3, 50)), np.ones((3, 50)))


class Files(Case):
    def test_the_demo_file_is_the_tree_it_states(self):
        found = kd.load_decision(kd.demo_file("lease_or_buy.toml")).solve(trials=20_000)
        mean = kd.Pert(0.5, 0.8, 1.3).mean
        self.assertAlmostEqual(
            float(found.value), 0.65 * 34e6 * mean + 0.35 * 15e6 - 20e6, delta=2 * found.value.error
        )
        self.assertEqual(found.policy["buy", "refused"], "sell")
        for what in ("tree", "profiles"):
            self.assertTrue(found.plot(what).axes)

    def test_mistakes_are_placed(self):
        head = '[decision]\nname = "x"\n'
        for text, words in (
            ("", "no table [decision]"),
            ('[decision]\nname = "x"\n', "'alternatives' is missing"),
            (head + "[decision.alternatives.a]\npayof = 3\n", "did you mean 'payoff'"),
            (
                head + "[decision.alternatives.a]\npay = 3\n",
                "one of payoff, event, choice and test",
            ),
            (
                head + '[decision.alternatives.a]\nevent = "e"\noutcomes.o = { payoff = 1 }\n',
                "needs its chance",
            ),
            (head + "x = 3\n[decision.alternatives]\na = 1\n", "no key 'x'"),
            (
                head + '[decision.alternatives]\na = { model = "none.toml", outcome = "y" }\n',
                "cannot be read",
            ),
        ):
            with (
                tempfile.TemporaryDirectory() as folder,
                self.subTest(words),
                self.fails(words, kind=kd.FileError),
            ):
                path = Path(folder, "x.toml")
                path.write_text(text, encoding="utf-8")
                kd.load_decision(path)

    def test_the_command(self):
        import json

        from tests.common import run

        path = str(kd.demo_file("lease_or_buy.toml"))
        with tempfile.TemporaryDirectory() as folder:
            answer = run(
                "decide", path, "--vary", "permit=0.1:0.9", "--out", folder, "--trials", "2000"
            )
            self.assertEqual((answer.returncode, answer.stderr), (0, ""))
            self.assertIn("Where the best alternative changes with permit", answer.stdout)
            names = {item.name for item in Path(folder).iterdir()}
            self.assertEqual(
                names,
                {
                    "run.json",
                    "summary.json",
                    "alternatives.csv",
                    "parts.csv",
                    "beats.csv",
                    "regret.csv",
                    "tree.png",
                    "profiles.png",
                },
            )
        found = json.loads(
            run("decide", path, "--json", "--by", "percentile", "--trials", "2000").stdout
        )
        self.assertEqual((found["rule"], found["worth of knowing"]), ("percentile", None))
        for arguments, words in (
            (("--vary", "permit"), "NAME=LOW:HIGH"),
            (("--by", "median"), "no 'median'"),
        ):
            answer = run("decide", path, *arguments)
            self.assertEqual((answer.returncode, "Traceback" in answer.stderr), (2, False))
            self.assertIn(words, answer.stderr)
