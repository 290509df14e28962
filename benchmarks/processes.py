"""Whole processes: the command line, imports, and peak memory."""

import subprocess
import sys
from importlib.resources import files

from benchmarks.timing import paired, python

MEMORY = """
import resource
import kindynos as kd
model = kd.Model("two drivers")
model.driver("a", kd.Normal(10, 2))
model.driver("b", kd.LogNormal(5, 1))
model.outcome("y", "a * b", target=40)
run = model.simulate(10_000_000, seed=1)
run.table()
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20)
"""


def measure() -> list[tuple[str, str, float, str]]:
    model = str(files("kindynos.demo").joinpath("night_ferry.toml"))
    libraries = python("-c", "import numpy, scipy.special, pandas")
    command = python("-m", "kindynos", "run", model, "--trials", "10000", "--seed", "1")
    ours, baseline, ratio = paired(command, libraries, runs=9)
    rows = [
        (
            "(c) kindynos run, 10,000 trials / import of its libraries",
            f"{ours:.2f} s / {baseline:.2f} s",
            ratio,
            "at most 2.5",
        )
    ]
    answer = subprocess.run(
        [sys.executable, "-c", MEMORY], check=True, capture_output=True, text=True
    )
    rows.append(
        (
            "(d) peak memory of 10 million trials, two drivers, in GB",
            "",
            float(answer.stdout),
            "under 1.5",
        )
    )
    ours, baseline, ratio = paired(
        python("-c", "import kindynos"), python("-c", "import numpy, scipy.special"), runs=9
    )
    rows.append(
        (
            "import kindynos / import numpy, scipy.special",
            f"{ours:.2f} s / {baseline:.2f} s",
            ratio,
            "at most 1.3",
        )
    )
    return rows
