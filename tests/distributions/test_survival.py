"""Ages at death, against sums over a table."""

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import Case

AGES = np.arange(0, 111)
CHANCES = np.minimum(1.0, 2e-5 * np.exp(0.095 * AGES))
CHANCES[-1] = 1.0
TABLE = pd.DataFrame({"Age": AGES, "qx": CHANCES})


class Survival(Case):
    def test_chances_are_those_of_the_table(self):
        lives = kd.Discrete.from_survival(TABLE, 65)
        alive = np.concatenate([[1.0], np.cumprod(1 - CHANCES[65:])])
        self.assertAlmostEqual(lives.chance(at=65), CHANCES[65])
        self.assertAlmostEqual(lives.chance(at=80), alive[15] * CHANCES[80])
        # the curtate expectation of life: the sum of the chances to be alive at each age
        self.assertAlmostEqual(lives.mean - 65, alive[1:].sum())
        self.assertEqual(lives.support, (65.0, 110.0))

    def test_steps_of_ages_hold_until_the_next(self):
        steps = kd.Discrete.from_survival([(60, 0.1), (70, 0.5), (90, 1.0)], 68)
        self.assertAlmostEqual(steps.chance(at=69), 0.9 * 0.1)
        self.assertAlmostEqual(steps.chance(at=71), 0.81 * 0.5 * 0.5)

    def test_two_lives(self):
        model = kd.Model("two")
        model.driver("his", kd.Discrete.from_survival(TABLE, 67))
        model.driver("hers", kd.Discrete.from_survival(TABLE, 64))
        model.outcome("years", "max(his - 67, hers - 64)")
        found = model.simulate(40_000, seed=1)["years"]
        alive = [np.concatenate([[1.0], np.cumprod(1 - CHANCES[a:])]) for a in (67, 64)]
        one, other = alive[0][1:45], alive[1][1:45]
        self.assertAlmostEqual(found.mean, (1 - (1 - one) * (1 - other)).sum(), delta=0.15)

    def test_a_model_file(self):
        with TemporaryDirectory() as folder:
            TABLE.to_csv(Path(folder, "deaths.csv"), index=False)
            file = Path(folder, "plan.toml")
            text = '[model]\nname = "m"\n[drivers.death]\ndistribution = "discrete"\n'
            rest = '[outcomes]\nlast_year = "death - 65"\n'
            file.write_text(f'{text}survival = "deaths.csv"\nage = 65\n{rest}')
            model = kd.load_model(file)
            stated = model.quantities["death"].distribution
            self.assertEqual(stated, kd.Discrete.from_survival(TABLE, 65))
            self.assertEqual(kd.load_model(file).to_toml(), model.to_toml())
            for line, words in (
                ('survival = "deaths.csv"', "age"),
                ('survival = "none.csv"\nage = 65', "none.csv"),
                ('survival = "deaths.csv"\nage = 65\nvalues = [1]', "there is no values"),
                ('survival = "../deaths.csv"\nage = 65', "beside the model"),
            ):
                file.write_text(f"{text}{line}\n{rest}")
                with self.fails(words, kind=kd.FileError):
                    kd.load_model(file)

    def test_tables_that_are_none(self):
        for table, age, words in (
            ({65: 0.1}, 65, "ends at 65 with 90 % alive"),
            ({65: 0.1, 66: 1.2}, 65, "from 0 to 1, not 1.2"),
            ([(66, 0.1), (65, 1.0)], 65, "must rise"),
            ({65: 0.1, 66: 1.0}, 64, "within the table, 65 to 66, not 64"),
            ([1, 2, 3], 65, "pairs of age and chance"),
            ({}, 65, "an age and a chance in each row"),
            (pd.DataFrame({"age": [65], "alive": [1]}), 65, "needs the columns age and chance"),
            ({65: 0.1, 66: 1.0}, "old", "age must be a number"),
        ):
            with self.fails(words):
                kd.Discrete.from_survival(table, age)


if __name__ == "__main__":
    unittest.main()
