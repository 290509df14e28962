"""Tests of markets."""

import hashlib
import json

import numpy as np
import pandas as pd
from matplotlib.figure import Figure
from scipy import stats

import kindynos as kd
from tests.common import DEMO, HELD, PRICES, Folder, made, proof, run

TREASURY = (str(DEMO / "treasury_prices.csv"), "--holdings", str(DEMO / "treasury_holdings.csv"))


class Commands(Folder):
    def test_risk(self):
        answer = run(
            "risk", *TREASURY, "--methods", "historical,normal", "--windows", "250,all", "--json"
        )
        data = json.loads(answer.stdout)
        shares = (
            pd.read_csv(DEMO / "treasury_holdings.csv").set_index("instrument")["shares"].to_dict()
        )
        held = kd.Portfolio(kd.read_prices(DEMO / "treasury_prices.csv"), shares=shares)
        self.assertEqual(len(data["risk"]), 12)
        self.assertEqual(data["risk"][0]["value at risk"], held.value_at_risk(0.95, window=250))
        self.assertEqual(data["value"], held.value)
        answer = run(
            "risk", *TREASURY, "--methods", "historical", "--out", str(self.folder / "out")
        )
        for words in (
            "not the most that can be lost",
            "132 dates left out",
            "wind_farm",
            "row 403",
        ):
            self.assertIn(words, " ".join(answer.stdout.split()))
        self.assertLessEqual(
            {"risk.csv", "losses.csv", "risk.png", "correlation.png"},
            {p.name for p in (self.folder / "out").iterdir()},
        )

    def test_weights(self):
        holdings = self.folder / "h.csv"
        holdings.write_text("instrument,weight\nshipyard,0.6\ngreen_loan,0.4\n")
        data = json.loads(
            run(
                "risk",
                TREASURY[0],
                "--holdings",
                str(holdings),
                "--value",
                "1000000",
                "--methods",
                "normal",
                "--json",
            ).stdout
        )
        self.assertAlmostEqual(data["value"], 1e6)

    def test_holdings_by_amounts_and_shares_in_per_cent(self):
        for suffix, table in (
            (".csv", "instrument,amount\nshipyard,600000\ngreen_loan,400000\n"),
            (".xlsx", [["shipyard", 600000], ["green_loan", 400000]]),
            (".csv", "instrument,weight\nshipyard,60%\ngreen_loan,40%\n"),
        ):
            path = self.folder / f"held{suffix}"
            if suffix == ".csv":
                path.write_text(table)
            else:
                pd.DataFrame(table, columns=["instrument", "amount"]).to_excel(path, index=False)
            value = ("--value", "1e6") if "weight" in table else ()
            options = ("--methods", "normal", "--json")
            shown = run("risk", TREASURY[0], "--holdings", str(path), *value, *options)
            data = json.loads(shown.stdout)
            self.assertAlmostEqual(data["value"], 1e6)
            self.assertAlmostEqual(data["contributions"][0]["value"], 600000)

    def test_doubtful_prices_stand_after_the_answer(self):
        lines = (DEMO / "treasury_prices.csv").read_text(encoding="utf-8").splitlines()
        for row in (100, 200, 300, 400, 500):
            cells = lines[row].split(",")
            lines[row] = ",".join([*cells[:2], f"{10 * float(cells[2]):.6g}", *cells[3:]])
        path = self.folder / "slips.csv"
        path.write_text("\n".join(lines), encoding="utf-8")
        for command, begins in (
            (("risk", path, *TREASURY[1:]), "Over 1 day the holdings"),
            (("backtest", path, *TREASURY[1:]), "Over 6"),
            (("allocate", path, *TREASURY[1:]), "The highest ratio"),
            (("paths", path, "--column", "green_loan"), "After 252 days"),
        ):
            shown = run(*map(str, command), "--brief").stdout
            with self.subTest(command[0]):
                self.assertTrue(shown.startswith(begins), shown)
                self.assertEqual(shown.count("the decimal point may have slipped"), 3)
                self.assertIn("And 2 more.", " ".join(shown.split()))

    def test_backtest(self):
        answer = run("backtest", *TREASURY, "--method", "filtered", "--json")
        data = json.loads(answer.stdout)
        self.assertEqual((data["days"], data["exceptions"]), (655, len(data["exception days"])))
        answer = run("backtest", *TREASURY, "--out", str(self.folder / "out"))
        self.assertIn("cornish fisher", answer.stdout)
        self.assertRegex(answer.stdout, r"normal +16 +yellow +0\.001 .* 4\.00")
        self.assertTrue((self.folder / "out" / "backtest.png").exists())
        full = run("backtest", *TREASURY, "--method", "historical").stdout
        self.assertIn("Kupiec p-value", full)
        self.assertRegex(full, r"multiplier +3\.00")
        data = json.loads(run("backtest", *TREASURY, "--json").stdout)
        self.assertEqual([row["exceptions"] for row in data["backtests"]][:2], [7, 9])

        actual = self.folder / "pnl.csv"
        held = kd.Portfolio(
            kd.read_prices(TREASURY[0]),
            shares=pd.read_csv(TREASURY[2]).set_index("instrument")["shares"].to_dict(),
        )
        losses = held.losses()["loss"].iloc[-300:]
        pd.DataFrame({"date": losses.index, "profit": -2 * losses}).to_csv(actual, index=False)
        doubled = json.loads(run("backtest", *TREASURY, "--actual", str(actual), "--json").stdout)
        forecasts = held.backtest().table()["value at risk"].iloc[-300:].to_numpy()
        self.assertEqual(doubled["days"], 300)
        self.assertEqual(doubled["exceptions"], int((2 * losses.to_numpy() > forecasts).sum()))
        self.assertIn("today's holdings", doubled["notes"][-1])

        # those of days are added up to months, whatever the day of the month ends
        pd.DataFrame({"date": losses.index, "profit": -losses}).to_csv(actual, index=False)
        monthly = ["--every", "month", "--window", "20", "--level", "0.8", "--actual", str(actual)]
        run("backtest", *TREASURY, *monthly, "--method", "normal", "--out", str(self.folder / "m"))
        table = pd.read_csv(self.folder / "m" / "backtest.csv", index_col="date", parse_dates=True)
        sums = losses.groupby(losses.index.to_period("M")).sum()
        own = table["loss"]
        np.testing.assert_allclose(own, sums[own.index.to_period("M")])

        # dated a day later, those of Fridays fall on no day
        late = pd.DataFrame({"date": losses.index + pd.Timedelta(days=1), "profit": -losses})
        late.to_csv(actual, index=False)
        told = run("backtest", *TREASURY, "--actual", str(actual)).stdout
        lost = int((~late["date"].isin(held.prices.dates)).sum())
        self.assertIn(f"{lost - 1} of 300 actual profits are dated on no day", told)

        recorded = self.folder / "var.csv"
        days = losses.index[-100:]
        pd.DataFrame({"date": days, "var": 1.0, "Expected_shortfall": 2.0}).to_csv(recorded)
        pd.DataFrame({"date": days, "profit": [-3.0] * 7 + [1.0] * 93}).to_csv(actual)
        words = ["backtest", "--forecasts", str(recorded), "--actual", str(actual)]
        found = json.loads(run(*words, "--level", "0.95", "--json").stdout)
        self.assertEqual((found["exceptions"], found["days"]), (7, 100))
        exact = stats.binomtest(7, 100, 0.05).pvalue
        self.assertAlmostEqual(found["Kupiec p-value"], exact, delta=0.15)
        pd.DataFrame({"date": days, "var": -1.0, "Expected_shortfall": -2.0}).to_csv(recorded)
        told = run(*words, "--level", "0.95")
        self.assertIn("they are taken as losses", " ".join(told.stdout.split()))
        below = json.loads(run(*words, "--level", "0.95", "--json").stdout)
        self.assertEqual((below["exceptions"], below["days"]), (7, 100))
        self.assertIn("--forecasts goes with --actual", run(*words[:3]).stderr)
        self.assertIn("say PRICES and --holdings", run("backtest").stderr)
        actual.write_text("date,loss\n2027-01-04,5\n")
        self.assertIn("date and profit", run("backtest", *TREASURY, "--actual", str(actual)).stderr)

    def test_the_answer_comes_first(self):
        prices, holdings = self.folder / "prices.csv", self.folder / "holdings.csv"
        names = ["shipyard", "wind_farm", "grain_store"]
        table = pd.read_csv(DEMO / "treasury_prices.csv")[["date", *names]].iloc[-520:]
        table.to_csv(prices, index=False)
        holdings.write_text("instrument,shares\nshipyard,16000\nwind_farm,9000\ngrain_store,500\n")
        few = (str(prices), "--holdings", str(holdings))
        scenarios = self.folder / "shocks.csv"
        scenarios.write_text(
            "scenario,instrument,move\nstorm,shipyard,-0.3\nstorm,wind_farm,-0.2\n"
        )
        asked = ("--unit", "EUR", "--what-if", "shipyard=-16000", "--stress", "shipyard=-20%")
        asked += ("--scenarios", str(scenarios), "--replay", "2026-03-02:2026-04-01")
        out = ("--out", str(self.folder / "out"))
        shown = " ".join(run("risk", *few, *asked, *out).stdout.split())
        data = json.loads((self.folder / "out" / "summary.json").read_text())
        self.assertRegex(
            shown,
            r"^Over 1 day the holdings, worth 1,827,754 EUR on 2027-12-27, lose more than about "
            r"[\d,]+ EUR \([\d,]+ (or more|to [\d,]+)\) on 1 day in 100; the other 7 methods say",
        )
        self.assertIn(f"the method {data['method']!r}: {data['why']}", shown)
        rows = {(row["method"], row["level"]): row for row in data["risk"]}
        others = [row["value at risk"] for (m, level), row in rows.items() if level == 0.99]
        self.assertEqual(len(others), 8)
        parts = data["contributions"]
        total = rows[data["method"], 0.99]["value at risk"]
        self.assertAlmostEqual(sum(row["component"] for row in parts), total)
        self.assertGreater(sum(row["alone"] for row in parts), total)
        self.assertLess(shown.index("wind_farm"), shown.index("grain_store"))
        change = data["what if"][0]
        self.assertAlmostEqual(change["difference"], change["after"] - change["before"])
        self.assertLess(change["high"], 0)
        storm = {row["instrument"]: row for row in data["stress: storm"]}
        self.assertAlmostEqual(storm["shipyard"]["profit"], -0.3 * storm["shipyard"]["value"])
        record = data["record"]
        content = prices.read_bytes()
        self.assertEqual(record["checksum"], hashlib.sha256(content).hexdigest())
        self.assertEqual(record["holdings"]["shipyard"], 16000)
        self.assertEqual(record["options"]["levels"], [0.95, 0.975, 0.99])
        self.assertEqual((record["options"]["seed"], record["version"]), (0, kd.__version__))
        options = ("--methods", "normal", "--stress", "oil=-0.1", "--what-if", "oil=1000", "--json")
        table["oil"] = pd.read_csv(DEMO / "heating_oil.csv")["heating_oil"]  # which is not held
        table.to_csv(prices, index=False)
        beside = json.loads(run("risk", *few, *options).stdout)
        shocked = {row["instrument"]: row for row in beside["stress: oil=-0.1"]}
        self.assertEqual((shocked["oil"]["return"], shocked["oil"]["profit"]), (-0.1, 0))
        self.assertNotEqual(shocked["shipyard"]["profit"], 0)
        self.assertEqual(len(beside["contributions"]), 3)
        self.assertNotEqual(beside["what if"][0]["difference"], 0)
        for option, words in (
            (("--stress", "shipyard"), "NAME=NUMBER"),
            (("--replay", "2026-03-02"), "two dates"),
            (("--stress", "shipyrd=-0.1"), "did you mean 'shipyard'"),
            (("--windows", "2026-01-01:2026-01-05"), "at least 8"),
        ):
            with self.subTest(option=option):
                self.assertIn(words, run("risk", *few, *option).stderr)

    def test_names_with_brackets_and_equals_signs_newest_first(self):
        file, holdings = self.folder / "prices.csv", self.folder / "holdings.csv"
        draws = np.random.default_rng(5).standard_normal((200, 3))
        dates = pd.date_range("2012-01-01", periods=200, freq="MS").strftime("%Y-%m-%d")
        paths = 100 * np.exp(np.cumsum(0.04 * draws, axis=0))
        table = pd.DataFrame(paths, columns=["[red]ferry", "a=b", "index"])
        table.insert(0, "date", dates)
        table.iloc[::-1].to_csv(file, index=False)
        holdings.write_text("instrument,shares\n[red]ferry,100\na=b,-60\n")
        asked = ("--stress", "a=b=-10%,index=0.1", "--what-if", "[red]ferry=-20")
        stated = ("--change", "index=relative", "--methods", "historical")
        answer = run("risk", str(file), "--holdings", str(holdings), *asked, *stated)
        self.assertEqual((answer.returncode, answer.stderr), (0, ""))
        self.assertIn("With -20 [red]ferry, over 1 month", answer.stdout)
        moved = 60 * 0.1 * paths[-1, 1]
        self.assertRegex(answer.stdout, rf"a=b +{moved:,.0f}")
        data = json.loads(run("risk", str(file), "--holdings", str(holdings), "--json").stdout)
        self.assertEqual(
            data["value"], 100 * table["[red]ferry"].iloc[-1] - 60 * table["a=b"].iloc[-1]
        )

    def test_rates_and_splits_are_stated_on_the_command_line(self):
        file, holdings = self.folder / "prices.csv", self.folder / "holdings.csv"
        generator = np.random.default_rng(3)
        dates = pd.bdate_range("2026-01-01", periods=300).strftime("%Y-%m-%d")
        rate = 0.01 + np.cumsum(generator.normal(0, 0.0005, 300))
        share = 100 * np.exp(np.cumsum(generator.normal(0, 0.01, 300)))
        split = np.where(np.arange(300) < 150, 3 * share, share)
        table = {"date": dates, "future": rate - rate[150], "ferry": split}
        pd.DataFrame(table).to_csv(file, index=False)
        holdings.write_text("instrument,shares,change\nfuture,1000,absolute\nferry,2,\n")
        stated = ("--split", f"ferry=3:1@{dates[150]}", "--methods", "normal", "--level", "0.99")
        shown = run("risk", str(file), "--holdings", str(holdings), *stated, "--json")
        data = json.loads(shown.stdout)
        self.assertEqual(data["record"]["changes"], {"future": "absolute"})
        self.assertEqual(data["record"]["splits"], {"ferry": {dates[150]: "3:1"}})
        self.assertEqual(data["record"]["suspicious"], [])
        gains = 1000 * np.diff(rate) + 2 * share[-1] * (np.diff(share) / share[:-1])
        wanted = 2.3263478740 * gains.std(ddof=1) - gains.mean()
        self.assertAlmostEqual(data["risk"][0]["value at risk"], wanted, places=4)
        options = ("--column", "future", "--change", "future=absolute", "--seed", "1")
        walk = run("paths", str(file), *options, "--trials", "200", "--below", "0")
        self.assertIn("random walk fitted to 300 prices", walk.stdout)  # of a rate, unless stated
        self.assertIn("ending below 0", walk.stdout)
        brownian = ("--process", "geometric-brownian-motion")
        refused = run("paths", str(file), *options, *brownian, "--trials", "200")
        self.assertIn("above 0", refused.stderr)
        for option, words in (
            (("--split", "ferry=3:1"), "NAME=RATIO@DATE"),
            (("--change", "future"), "NAME=absolute"),
            (("--change", "future=relativ"), "'relative'"),
            (("--split", f"fery=3:1@{dates[150]}"), "did you mean 'ferry'"),
        ):
            with self.subTest(option=option):
                answer = run("risk", str(file), "--holdings", str(holdings), *option)
                self.assertEqual(answer.returncode, 2)
                self.assertIn(words, answer.stderr)

    def test_monthly_prices(self):
        file, holdings = self.folder / "prices.csv", self.folder / "holdings.csv"
        draws = np.random.default_rng(3).standard_normal(120)
        dates = pd.date_range("2018-01-01", periods=120, freq="MS").strftime("%Y-%m-%d")
        path = 100 * np.exp(np.cumsum(0.05 * draws))
        pd.DataFrame({"date": dates, "share": path}).to_csv(file, index=False)
        holdings.write_text("instrument,shares\nshare,10\n")
        held = ("--holdings", str(holdings))
        shown = run("risk", str(file), *held, "--methods", "normal", "--horizon", "3").stdout
        for words in ("over 3 months", "1 stretch of 3 months in as many"):
            self.assertIn(words, " ".join(shown.split()))
        tested = run("backtest", str(file), *held, "--window", "48").stdout
        self.assertIn("71 months, 0.7 exceptions expected", " ".join(tested.split()))
        level = path[-1] / 2  # a price that today's is above
        options = ("--trials", "200", "--seed", "1", "--above", str(level), "--json")
        ahead = json.loads(run("paths", str(file), *options).stdout)
        own = np.diff(np.log(path)).std() * np.sqrt(12)
        self.assertAlmostEqual(ahead["parameters"]["volatility"], own, 1)
        ever = [row for row in ahead["chances"] if row["what"].startswith("ever")]
        self.assertEqual((ahead["period"], ever[0]["chance"]), ("month", 1.0))
        plain = ("--minimize", "sd", "--resampled", "0")
        by_quarter = run("allocate", str(file), "--every", "quarter", *plain).stdout
        self.assertIn("Figures each quarter", by_quarter)
        self.assertRegex(run("risk", str(file), *held, "--every", "day").stderr, "one month apart")

    @proof
    def test_paths(self):
        oil = str(DEMO / "heating_oil.csv")
        for process in ("random walk", "mean-reverting", "jump-diffusion", "bootstrap-returns"):
            answer = run(
                "paths",
                oil,
                "--process",
                process,
                "--ahead",
                "60",
                "--trials",
                "500",
                "--above",
                "0.9",
                "--json",
            )
            self.assertEqual((process, answer.returncode, answer.stderr), (process, 0, ""))
            data = json.loads(answer.stdout)
            self.assertLess(data["end"]["P5"], data["end"]["P95"])
            chance = data["chances"][0]
            self.assertTrue(0 <= chance["low"] <= chance["chance"] <= chance["high"] <= 1)
            # four years of prices say little of a drift
            self.assertGreater(chance["high"] - chance["low"], 0.05)
            self.assertFalse(
                {type(value) for value in data["parameters"].values()} - {float, int, bool, str}
            )
            self.assertIsInstance(data["parameters"]["start"], float)
            may_be_negative = process in ("random walk", "mean-reverting")
            self.assertEqual(data["max drawdown"] is None, may_be_negative)
        neutral = run(
            "paths",
            oil,
            "--risk-neutral",
            "0.03",
            "--ahead",
            "20",
            "--trials",
            "500",
            "--seed",
            "1",
        )
        self.assertIn("risk-neutral, at a riskless rate of 3 %", " ".join(neutral.stdout.split()))
        walk = run(
            "paths",
            oil,
            "--process",
            "random-walk",
            "--ahead",
            "20",
            "--trials",
            "500",
            "--seed",
            "1",
        )
        self.assertRegex(
            " ".join(walk.stdout.split()), r"the expected value changes by -0.015\d* a year"
        )
        options = (
            "--ahead",
            "30",
            "--trials",
            "500",
            "--below",
            "35",
            "--uncertain",
            "--out",
            str(self.folder / "out"),
        )
        answer = run("paths", TREASURY[0], "--column", "shipyard", "--no-mean", *options)
        self.assertIn("no mean", answer.stdout)
        self.assertLessEqual(
            {"paths.png", "drawdowns.png", "growth.png"},
            {p.name for p in (self.folder / "out").iterdir()},
        )

    def test_what_a_window_leaves_open_and_contradicts_stands_beside_the_figures(self):
        answer = run(
            "risk",
            *TREASURY,
            "--methods",
            "normal,simulated",
            "--levels",
            "0.99",
            "--horizon",
            "10",
        )
        text = " ".join(answer.stdout.split())
        self.assertIn("* normal: the returns are not normal", text)
        self.assertIn("Of the intervals of 'simulated'", text)
        self.assertIn(
            "What each holding adds to the value at risk, 1 in 100, normal, over 10 days", text
        )
        data = json.loads(
            run("risk", *TREASURY, "--methods", "historical", "--levels", "0.99", "--json").stdout
        )
        beside = json.loads(
            run(
                "risk", *TREASURY, "--methods", "normal", "--benchmark", "wind_farm", "--json"
            ).stdout
        )["benchmark"]
        self.assertTrue(beside["beta"]["low"] < beside["beta"]["value"] < beside["beta"]["high"])
        added = sum(row["component"] for row in data["contributions"])
        self.assertAlmostEqual(added / data["risk"][0]["value at risk"], 1, 12)
        self.assertIsNone(data["risk"][0]["value at risk high"])

    def test_other_currencies_and_prices_that_end_early(self):
        frame = made(120).assign(NOK=np.linspace(0.08, 0.1, 120), note="as seen")
        frame.loc[110:, "beta"] = np.nan
        prices, held = self.folder / "p.csv", self.folder / "h.csv"
        frame.to_csv(prices, index=False)
        held.write_text("instrument,shares,currency\nalpha,100,\nbeta,500,NOK\n")
        answer = run(
            "risk", str(prices), "--holdings", str(held), "--methods", "historical", "--json"
        )
        last = frame.loc[109]
        self.assertAlmostEqual(
            json.loads(answer.stdout)["value"],
            100 * last["alpha"] + 500 * last["beta"] * last["NOK"],
        )
        shown = run("risk", str(prices), "--holdings", str(held), "--methods", "historical").stdout
        self.assertTrue(shown.startswith("Over 1 day the holdings, worth"), shown[:100])
        self.assertIn(f"Today is {last['date']}: no later price of beta; others run to ", shown)
        held.write_text("instrument,shares,currency\nbeta,500,NKO\n")
        self.assertIn(
            "did you mean 'NOK'", run("risk", str(prices), "--holdings", str(held)).stderr
        )

    def test_holdings_that_are_no_fractions(self):
        for text, words in (
            ("instrument,weight\nshipyard,60%\n", ("add up to 0.6",)),
            ("instrument,weight\nshipyard,60\nwind_farm,40\n", ("add up to 100", "0.6 for 60 %")),
        ):
            path = self.folder / "h.csv"
            path.write_text(text)
            answer = run("risk", TREASURY[0], "--holdings", str(path), "--value", "1000")
            self.assertEqual(answer.returncode, 2)
            for word in words:
                self.assertIn(word, answer.stderr)
        self.assertIn("say --value", run("risk", TREASURY[0], "--holdings", str(path)).stderr)

    def test_mistakes_get_one_message_and_status_2(self):
        wrong = self.folder / "wrong.csv"
        wrong.write_text("instrument,shares\nshipyrd,5\n")
        text = self.folder / "text.csv"
        text.write_text("instrument,shares\nshipyard,many\n")
        odd = self.folder / "odd.csv"
        odd.write_text("name,amount\nshipyard,3\n")
        uneven = self.folder / "uneven.csv"
        uneven.write_text("instrument,weight\nshipyard,0.5\n")
        paid, other = self.folder / "paid.csv", self.folder / "other.csv"
        paid.write_text("date,instrument,amount\n2026-01-06,shipyard,1e6\n")
        other.write_text("date,instrument,amount\n2026-01-06,shipyrd,1\n")
        for arguments, words in (
            (("risk", TREASURY[0], "--holdings", str(wrong)), "did you mean 'shipyard'"),
            (("risk", TREASURY[0], "--holdings", str(text)), "row 2: column 'shares' holds 'many'"),
            (("risk", TREASURY[0], "--holdings", str(odd)), "instrument and shares"),
            (("risk", TREASURY[0], "--holdings", str(uneven), "--value", "1"), "add up to 0.5"),
            (("risk", TREASURY[0], "--holdings", str(self.folder / "none.csv")), "none.csv"),
            (
                ("risk", *TREASURY, "--dividends", str(paid)),
                "treasury_prices.csv: read_prices: the",
            ),
            (("risk", *TREASURY, "--dividends", str(other)), "dividends: no instrument 'shipyrd'"),
            (("risk", *TREASURY, "--levels", "95"), "say 0.95"),
            (("risk", *TREASURY, "--levels", "high"), "0.95,0.99"),
            (("risk", *TREASURY, "--windows", "long"), "worst or all"),
            (("risk", *TREASURY, "--windows", "5000"), "905 returns"),
            (("backtest", *TREASURY, "--window", "2000"), "no day to test"),
            (("risk", *TREASURY, "--benchmark", "wind_fram"), "did you mean 'wind_farm'"),
            (("paths", TREASURY[0]), "say --column"),
            (("paths", TREASURY[0], "--column", "shipyard", "--above", "0"), "prices above 0"),
            (
                (
                    "paths",
                    TREASURY[0],
                    "--column",
                    "shipyard",
                    "--risk-neutral",
                    "0.02",
                    "--process",
                    "random-walk",
                ),
                "--risk-neutral goes with",
            ),
            (("paths", TREASURY[0], "--column", "shipyrd"), "did you mean 'shipyard'"),
            (
                ("paths", TREASURY[0], "--column", "shipyard", "--process", "jump-difusion"),
                "did you mean 'jump-diffusion'",
            ),
            (
                (
                    "paths",
                    TREASURY[0],
                    "--column",
                    "shipyard",
                    "--process",
                    "jump-diffusion",
                    "--no-mean",
                ),
                "geometric-brownian-motion and random-walk",
            ),
        ):
            with self.subTest(arguments=arguments):
                answer = run(*arguments)
                self.assertEqual((answer.returncode, answer.stdout), (2, ""))
                self.assertIn(words, answer.stderr)
                self.assertEqual(answer.stderr.count("\n"), 1)


class Pictures(Folder):
    def test_each_says_what_it_shows(self):
        paths = kd.GeometricBrownianMotion(100.0, 0.05, 0.2).paths(30, 300, seed=1, dt=1 / 252)
        table = HELD.risk_table(levels=[0.99], methods=["historical", "normal"])
        weights = {"alpha": 0.6, "gamma": 0.4}
        bought = kd.Portfolio(
            PRICES, weights=weights, value=1e6, as_of="2026-03-02", rebalance="monthly"
        )
        for draw, words in (
            (
                lambda ax: kd.plots.rolling_risk(HELD.rolling(100, 0.95), ax=ax),
                "1 day in 20, historical, from the 100 returns",
            ),
            (
                lambda ax: kd.plots.rolling_correlation(
                    kd.markets.returns(PRICES).rolling_correlation("alpha", "beta"), ax=ax
                ),
                "alpha and beta: correlation over 60 returns",
            ),
            (lambda ax: kd.plots.underwater(HELD.constant_value(), ax=ax), "Drawdown through time"),
            (lambda ax: kd.plots.prices_rebased(PRICES, ax=ax), "no price missing"),
            (lambda ax: kd.markets.returns(PRICES).plot(ax=ax), "Simple returns each day"),
            (
                lambda ax: kd.plots.correlation_map(kd.markets.returns(PRICES), "shrunk", ax=ax),
                "(shrunk)",
            ),
            (lambda ax: kd.plots.allocation(HELD, ax=ax), "Holdings on"),
            (lambda ax: kd.plots.portfolio_value(bought, ax=ax), "2026-03-02 and set back monthly"),
            (lambda ax: HELD.backtest(window=100).plot(ax=ax), "zone, Kupiec"),
            (
                lambda ax: kd.plots.paths_fan(paths, above=110, name="oil", ax=ax),
                "300 simulated paths",
            ),
            (
                lambda ax: kd.plots.max_drawdowns(np.asarray(kd.max_drawdown(paths)), 0.05, ax=ax),
                "of 300 paths",
            ),
            (
                lambda ax: kd.plots.growth_against_drawdown(paths, ax=ax),
                "Growth against maximum drawdown",
            ),
            (lambda ax: kd.plots.risk_levels(table, ax=ax), "about 1 day in 100"),
        ):
            ax = draw(Figure().subplots())
            self.assertIn(words, ax.get_title(loc="left"))
