"""Maximum drawdowns and correlated paths against a C++ loop (where a compiler is present), NumPy
scripts, and bare normals.
"""

import os
import shutil
import subprocess
import tempfile
from pathlib import Path

import numpy as np

import kindynos as kd
from benchmarks.timing import paired, seconds
from kindynos.processes.drawing import PathDraws, each_part

CPP = """
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <random>
#include <chrono>
int main(int argc, char** argv) {
  int trials = atoi(argv[1]), periods = atoi(argv[2]), runs = atoi(argv[3]);
  double dt = 1.0 / 12, drift = (0.07 - 0.02) * dt, spread = 0.2 * std::sqrt(dt), sum = 0;
  for (int r = 0; r < runs; ++r) {
    auto begun = std::chrono::steady_clock::now();
    std::mt19937_64 bits(11 + r);
    std::normal_distribution<double> normal(0, 1);
    for (int i = 0; i < trials; ++i) {
      double price = 100, high = 100, worst = 0;
      for (int t = 0; t < periods; ++t) {
        price *= std::exp(drift + spread * normal(bits));
        if (price > high) high = price;
        double fall = 1 - price / high;
        if (fall > worst) worst = fall;
      }
      sum += worst;
    }
    auto spent = std::chrono::steady_clock::now() - begun;
    std::printf("%.9f\\n", std::chrono::duration<double>(spent).count());
  }
  std::fprintf(stderr, "%f\\n", sum / trials / runs);
}
"""
PROCESS = kd.GeometricBrownianMotion(100.0, 0.07, 0.2)


def numpy_script(periods: int, trials: int) -> None:
    dt = 1 / 12
    shocks = np.random.default_rng(11).standard_normal((periods, trials))
    prices = 100 * np.exp(np.cumsum((0.07 - 0.02) * dt + 0.2 * np.sqrt(dt) * shocks, axis=0))
    prices = np.vstack([np.full(trials, 100.0), prices])
    (1 - prices / np.maximum.accumulate(prices, axis=0)).max(axis=0).mean()


def normals(periods: int, trials: int) -> None:
    draws = PathDraws(periods, trials, 1, 1.0)
    each_part(lambda block, part: draws.normals(periods, part, block), draws.parts(periods))


def multivariate(assets: int, periods: int, trials: int) -> None:
    matrix = 0.3 + 0.7 * np.eye(assets)
    shocks = np.random.default_rng(1).multivariate_normal(
        np.zeros(assets), matrix, size=(periods, trials)
    )
    np.cumsum(shocks, axis=0)


def measure() -> list[tuple[str, str, float, str]]:
    rows = []
    with tempfile.TemporaryDirectory() as folder:
        program = Path(folder, "drawdowns")
        compiler = shutil.which("g++") or shutil.which("clang++")
        if compiler:
            Path(folder, "drawdowns.cpp").write_text(CPP)
            subprocess.run(
                [compiler, "-O3", "-o", program, Path(folder, "drawdowns.cpp")], check=True
            )
        for trials, periods in ((20_000, 120), (100_000, 250)):
            label = f"maximum drawdown, {trials:,} paths x {periods} steps"
            ours, theirs, ratio = paired(
                lambda t=trials, p=periods: PROCESS.max_drawdowns(p, t, seed=1, dt=1 / 12).mean(),
                lambda t=trials, p=periods: numpy_script(p, t),
            )
            rows.append(
                (
                    f"{label} / whole-array NumPy",
                    f"{ours:.3f} s / {theirs:.3f} s",
                    ratio,
                    "at most 0.33",
                )
            )
            floor = min(seconds(lambda t=trials, p=periods: normals(p, t)) for _ in range(5))
            rows.append(
                (
                    f"{label} / drawing the normals alone",
                    f"{ours:.3f} s / {floor:.3f} s",
                    ours / floor,
                    "the floor is 1",
                )
            )
            if compiler:
                text = subprocess.run(
                    [program, str(trials), str(periods), "5"],
                    check=True,
                    capture_output=True,
                    text=True,
                    env=os.environ,
                ).stdout
                loop = sorted(map(float, text.split()))[2]
                rows.append(
                    (
                        f"{label} / one-thread C++ -O3",
                        f"{ours:.3f} s / {loop:.3f} s",
                        ours / loop,
                        "at most 0.4",
                    )
                )
    made = kd.PathSet({f"i{n}": PROCESS for n in range(10)}, correlation=0.3 + 0.7 * np.eye(10))
    ours, theirs, ratio = paired(
        lambda: made.paths(250, 10_000, seed=1, dt=1 / 252),
        lambda: multivariate(10, 250, 10_000),
        runs=3,
    )
    rows.append(
        (
            "10 correlated x 250 x 10,000 / multivariate_normal + cumsum",
            f"{ours:.2f} s / {theirs:.2f} s",
            ratio,
            "at most 0.6",
        )
    )
    return rows
