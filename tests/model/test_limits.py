"""Tests of what a model file may ask for: too much is told, and large or extreme models are read at
once.
"""

import kindynos as kd
from kindynos.errors import FileError
from kindynos.model.file import model_from_text
from tests.common import Case

HEAD = '[model]\nname = "x"\n'
NORMAL = '{ distribution = "normal", mean = 0, sd = 1 }'
PLAIN = ('distribution = "normal"', "mean = 0", "sd = 1")
BOOTSTRAP = ('process = "bootstrap returns"', "returns = [0.1, -0.1]")


def driver(*lines: str, periods: int | None = None) -> str:
    head = HEAD + (f"periods = {periods}\n" if periods else "")
    return "\n".join([head, "[drivers.d]", *lines, "[outcomes]", 'y = "d * 2"'])


class Limits(Case):
    def test_what_is_too_large_is_told(self):
        deep = NORMAL
        for _ in range(30):
            deep = f'{{ distribution = "truncated", inner = {deep}, low = -3, high = 3 }}'
        chain = "".join(
            f'[[correlations]]\nbetween = ["d{i}", "d{i + 1}"]\nvalue = 0.1\n' for i in range(600)
        )
        many = "".join(f"d{i} = {NORMAL}\n" for i in range(601))
        figures = "".join(f"a{i} = 1\n" for i in range(3001))
        lines = "".join(f'a{i} = "d * {i}"\n' for i in range(600))
        rows = driver(*PLAIN, periods=9_999).replace("[outcomes]", f"[lines]\n{lines}[outcomes]")
        jumps = [f"{name} = 1" for name in ("start", "drift", "volatility", "rate", "jump_mean")]
        for text, words in (
            (
                driver(f'distribution = "mixture"\nparts = [{", ".join([NORMAL] * 101)}]'),
                ("100 parts", "101"),
            ),
            (
                f'{HEAD}[drivers]\n{many}[outcomes]\ny = "d1"\n{chain}',
                ("601 drivers", "at most 500"),
            ),
            (f'{HEAD}[given]\n{figures}[outcomes]\ny = "a1"', ("3,000 quantities", "3,002")),
            (f'{HEAD}[drivers]\nd = {deep}\n[outcomes]\ny = "d"', ("nested deeper",)),
            (rows, ("602 quantities over 9,999 periods", "5,000,000")),
            (
                driver('process = "jump diffusion"', *jumps, "jump_sd = 1e300", periods=3),
                ("jump_sd", "at most 1e150"),
            ),
            (driver(*PLAIN, 'unit = "\\u001b[31mEUR"'), ("unit", "control characters")),
            (driver(*PLAIN).replace("y =", "y" * 101 + " ="), ("100 characters", "101")),
            (driver(*PLAIN[:2], "sd = " + "9" * 400), ("sd", "finite")),
            (driver(BOOTSTRAP[0], 'returns = "text"', periods=3), ("returns", "numbers")),
            (driver(*BOOTSTRAP, 'block = ""', periods=3), ("block", "a number")),
        ):
            with self.subTest(words=words), self.fails(*words, kind=FileError):
                model_from_text(text)

    def test_extreme_figures_are_drawn(self):
        drawn = [
            f"{name} = {count}"
            for name, count in (("population", 10**10), ("marked", 5 * 10**9), ("drawn", 10**9))
        ]
        for lines, mean, sd in (
            (['distribution = "geometric"', "probability = 1e-18"], 1e18, 1e18),
            (['distribution = "poisson"', "mean = 1e17"], 1e17, 1e17**0.5),
            (['distribution = "hypergeometric"', *drawn], 5e8, 15e3),
        ):
            found = model_from_text(driver(*lines)).simulate(1000, seed=1)["d"].mean
            with self.subTest(lines=lines):
                self.assertLess(abs(found - mean), 5 * sd / 1000**0.5)

    def test_brackets_of_a_balance(self):
        model = kd.Model("Brackets", periods=3)
        model.given(bands=[(0, 0.1), (100, 0.2)], opening=90.0)
        model.line(
            "balance",
            "previous(balance, opening) * (1 + lookup(previous(balance, opening), bands))",
        )
        model.outcome("y", "last(balance)")
        self.assertAlmostEqual(float(model.base_case().loc["y", "value"]), 90 * 1.1 * 1.1 * 1.2)
