"""What several tests share."""

import base64
import io
import math
import os
import subprocess
import sys
import tempfile
import time
import unittest
import warnings
from contextlib import contextmanager, redirect_stderr, redirect_stdout, suppress
from importlib.resources import files
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd
from matplotlib.figure import Figure
from scipy import stats

import kindynos as kd
from kindynos.cli import main

PIXEL = base64.b64decode(  # a picture of one
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg=="
)


def proof(test):
    """Mark a long coverage run: it belongs to ``make proofs``, and ``make test`` leaves it out."""
    test.is_proof = True
    return test


def repeats(count: int) -> int:
    """Return how often a proof repeats its case: a third of ``count`` in its short form."""
    return count // 3 if os.environ.get("KINDYNOS_SHORT_PROOFS") else count


class Case(unittest.TestCase):
    """A test case with checks on error messages and on intervals."""

    def assertCalibrated(self, gaps, errors):  # noqa: N802  # as unittest names them
        """Check 95 % half-widths from both sides: they hold the truth, and half of each does not.

        ``gaps`` and ``errors`` are flat, or have one column per parameter, each of which is judged
        alone. A half-width that is right holds the truth in 95 % of the cases and half of it in
        67 %; here 93 and 72 % are allowed, and what one sample in a thousand would show.
        """
        gaps, errors = (np.asarray(values, dtype=float) for values in (gaps, errors))
        gaps, errors = (
            values[:, None] if values.ndim == 1 else values for values in (gaps, errors)
        )
        count = len(gaps)
        for place, (gap, error) in enumerate(zip(np.abs(gaps).T, errors.T, strict=True)):
            held, by_half = np.sum(gap <= error), np.sum(gap <= error / 2)
            where = f"parameter {place}, {count} cases"
            self.assertGreaterEqual(held, stats.binom.ppf(1e-3, count, 0.93), where)
            self.assertLessEqual(by_half, stats.binom.isf(1e-3, count, 0.72), where)

    @contextmanager
    def fails(self, *fragments: str, kind: type[Exception] = kd.KindynosError):
        """Expect an error whose message holds all the fragments."""
        with self.assertRaises(kind) as caught:
            yield
        for fragment in fragments:
            self.assertIn(fragment, str(caught.exception))


def investment(**changes) -> kd.Model:
    """A small investment whose net value is normal: a price, and five yearly flows with a normal
    driver.
    """
    model = kd.Model("Small investment", periods=5, start=2030)
    model.given(hurdle=0.1, price=300.0)
    model.driver("flow", kd.Normal(90, 10), unit="EUR")
    model.line("cash_flow", "flow + 0 * period")
    model.outcome("net_value", "npv(hurdle, cash_flow, -price)", unit="EUR", target=0)
    return model.replace(**changes) if changes else model


FERRY = str(files("kindynos.demo").joinpath("night_ferry.toml"))


def run(*arguments: str | Path, columns: int | None = None) -> subprocess.CompletedProcess[str]:
    """The command line as its entry point calls it, in this process."""
    out, err = io.StringIO(), io.StringIO()
    words = list(map(str, arguments))
    with (
        mock.patch.object(sys, "argv", ["kindynos", *words]),
        mock.patch.dict(os.environ, {} if columns is None else {"COLUMNS": str(columns)}),
        redirect_stdout(out),
        redirect_stderr(err),
        # of libraries among each other
        warnings.catch_warnings(action="ignore", category=DeprecationWarning),
    ):
        try:
            main()
            status = 0
        except SystemExit as end:
            status = int(end.code or 0)
    return subprocess.CompletedProcess(words, status, out.getvalue(), err.getvalue())


def unrendered():
    """Pictures are drawn and not laid out and rendered, which takes most of their time; one for
    each kind of them is, in the tests of pictures and of files.
    """
    return mock.patch("kindynos.plots.save_figure", _drawn)


def _drawn(path, draw, size=(8.0, 5.0), page=False) -> None:
    figure = Figure(figsize=size)
    with warnings.catch_warnings(action="ignore"), suppress(kd.KindynosError):
        draw(figure=figure) if page else draw(ax=figure.subplots())
    path.write_bytes(b"<svg/>" if path.suffix == ".svg" else PIXEL)


def wait_for_work(process: subprocess.Popen, seconds: float = 6.0) -> None:
    """Wait until a process has used so much processor time, however busy the machine is."""
    ticks = os.sysconf("SC_CLK_TCK")
    deadline = time.monotonic() + 120
    while time.monotonic() < deadline and process.poll() is None:
        fields = Path(f"/proc/{process.pid}/stat").read_text().rpartition(")")[2].split()
        if (int(fields[11]) + int(fields[12])) / ticks >= seconds:
            return
        time.sleep(0.05)


class Folder(Case):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


DEMO = Path(kd.__file__).parent / "demo"


RNG = np.random.default_rng(8)


def made(days=600, seed=1, loading=0.6) -> pd.DataFrame:
    """Prices of three instruments that move together."""
    rng = np.random.default_rng(seed)
    common = rng.standard_normal(days)
    frame = pd.DataFrame({"date": pd.bdate_range("2026-01-01", periods=days).strftime("%Y-%m-%d")})
    for place, name in enumerate(("alpha", "beta", "gamma")):
        shocks = loading * common + np.sqrt(1 - loading**2) * rng.standard_normal(days)
        frame[name] = 50 * np.exp(np.cumsum(0.0002 + 0.01 * (1 + place) * shocks))
    return frame


PRICES = kd.read_prices(made())


HELD = kd.Portfolio(PRICES, shares={"alpha": 1000, "beta": 500, "gamma": 200})


def reserve(**changes) -> kd.Model:
    """A fund that is fed, earns a normal return each period, and is drawn on later."""
    model = kd.Model("Reserve", periods=40, start="2028-Q1", every="quarter")
    model.given(opening=100.0, deposit=5.0, draw=40.0, last=40)
    model.driver("earned", kd.Normal(0.01, 0.04), each="period")
    model.line("flow", "deposit - (draw if period % 4 == 0 else 0)")
    model.line("balance", "roll_forward(opening, earned, flow)")
    model.outcome("final", "at(balance, last)", target=0)
    model.outcome("ruin", "first_period(balance < 0)")
    model.outcome("unpaid", "total(roll_forward(opening, earned, flow, floor=0, shortfall=True))")
    return model.replace(**changes) if changes else model


def ishigami() -> kd.Model:
    """The function of Ishigami and Homma (1990), with a = 7 and b = 0.1."""
    model = kd.Model("Ishigami")
    for i in (1, 2, 3):
        model.driver(f"x{i}", kd.Uniform(-math.pi, math.pi))

    @model.outcome
    def y(x1, x2, x3):
        return np.sin(x1) + 7 * np.sin(x2) ** 2 + 0.1 * x3**4 * np.sin(x1)

    return model
