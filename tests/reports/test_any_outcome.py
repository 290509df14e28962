"""No report fails because of one part: outcomes of all kinds, with drivers of all kinds, through
the commands and media.
"""

import json
import unittest

from tests.common import Folder, run, unrendered

OUTCOMES = {
    "usual": '"1e6 * (a + b)"\nunit = "EUR"\ntarget = 0',
    "constant": '"7 + 0 * a"\nunit = "EUR"\ntarget = 7',
    "truth": '"a > b"',
    "lumpy": '"max(a, 0) * 1e6"\nunit = "EUR"\ntarget = 0',
    "endless": '"1e9 if a < -3 else first_period(level > 2)"',
    "huge": '"exp(400 * a) * 1e200"\nunit = "EUR"',
    "unknown_base": '"log(a - 0.3)"\nunit = "% a year"\ntarget = 0.0',
    "unknown": '"log(0 - 1 - a * a)"\nunit = "EUR"\ntarget = 0',
    "cost": '"1e5 * (3 + a - b)"\nunit = "EUR"\ntarget = 4e5\nbetter = "low"',
}
NORMAL = '\ndistribution = "normal"\nmean = {}\nsd = 1.0\n'
DRIVERS = {
    "independent": "[drivers.a]" + NORMAL.format("0.0"),
    "correlated": "[drivers.a]"
    + NORMAL.format("0.0")
    + '[[correlations]]\nbetween = ["a", "b"]\nvalue = 0.6\n',
    "hierarchical": "[drivers.mu]"
    + NORMAL.format("0.0")
    + "[drivers.a]"
    + NORMAL.format('"mu"')
    + '[[correlations]]\nbetween = ["a", "b"]\nvalue = 0.6\n',
    "each period": "[drivers.shock]"
    + NORMAL.format("0.0")
    + 'each = "period"\n[lines.a]\nformula = "total(shock) / 2"\n',
}
METHODS = ("rank", "swing", "shapley", "contributions")


def text(drivers: str, outcomes: dict[str, str]) -> str:
    parts = ['[model]\nname = "Kinds"\nperiods = 4\nstart = "2028"', DRIVERS[drivers]]
    parts += ["[drivers.b]" + NORMAL.format("0.0")]
    parts += ['[lines.level]\nformula = "running_total(every_period(a))"']
    parts += [f"[outcomes.{name}]\nformula = {stated}" for name, stated in outcomes.items()]
    parts += ["[scenarios.up.b]" + NORMAL.format("0.5")]
    return "\n".join(parts) + "\n"


class AnyOutcome(Folder):
    def test_every_command_ends_well_in_every_medium(self):
        for kind in DRIVERS:
            file = self.folder / f"{kind.replace(' ', '_')}.toml"
            file.write_text(text(kind, OUTCOMES))
            simulated = ("--trials", "400", "--seed", "1")
            out, page, book = (self.folder / f"{kind}{end}" for end in ("", ".html", ".xlsx"))
            files = ("--out", out, "--report", page, "--excel", book)
            if kind != "hierarchical":  # pictures take most of the time
                files = ("--excel", book)
            with self.subTest(drivers=kind):
                with unrendered():
                    shown = run("run", file, *simulated, *files, columns=140)
                self.assertEqual((shown.returncode, shown.stderr), (0, ""))
                self.assertTrue(all(file.exists() for file in files[1::2]))
                for name in OUTCOMES:
                    self.assertIn(f"\n{name}", shown.stdout)
                self.assertIn("100.0 % of the trials have no value.", shown.stdout)
                data = json.loads(run("run", file, *simulated, "--json").stdout)
                self.assertTrue(data["drivers"]["usual"] and data["drivers"]["huge"])
                self.assertEqual(run("compare", file, *simulated).returncode, 0)

    def test_a_ranking_that_cannot_be_made_says_why(self):
        for name in ("huge", "endless", "constant", "unknown"):
            file = self.folder / f"{name}.toml"
            file.write_text(text("correlated", {"y": OUTCOMES[name]}))
            for method in METHODS:
                picture = self.folder / f"{name}-{method}"
                options = ("--method", method, "--trials", "400", "--seed", "1", "--out", picture)
                with unrendered():
                    shown = run("drivers", file, "--outcome", "y", *options)
                with self.subTest(outcome=name, method=method):
                    self.assertNotIn("Traceback", shown.stderr)
                    if shown.returncode:
                        self.assertRegex(
                            shown.stderr,
                            "no two trials|no value in the base case|no variance to share out",
                        )
                    else:
                        self.assertTrue(list(picture.glob("*.png")))


if __name__ == "__main__":
    unittest.main()
