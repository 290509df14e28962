"""Pictures of the guides: densities of distributions and paths of processes."""

from pathlib import Path

import matplotlib as mpl

mpl.use("Agg")

import matplotlib.pyplot as plt
import numpy as np

import kindynos as kd

SIZE = (5.4, 3.0)
PATHS, PERIODS = 12, 48
WHOLE_PERIODS = ("bootstrap returns", "garch", "arima", "exponential smoothing")


def draw(name: str, distribution: kd.Distribution, folder: Path) -> str:
    """Draw a density, and return the name of the file."""
    path = _path(name, folder)
    if not path.exists():
        figure, ax = plt.subplots(figsize=SIZE, layout="constrained")
        distribution.plot(ax=ax)
        _save(figure, path)
    return path.name


def draw_paths(name: str, process: kd.Process, folder: Path) -> str:
    """Draw a few paths of a process and the range of many, and return the name of the file."""
    path = _path(name, folder)
    if not path.exists():
        step = {} if name in WHOLE_PERIODS else {"dt": 1 / 12}
        made = np.asarray(process.paths(PERIODS, 2_000, seed=1, **step))
        figure, ax = plt.subplots(figsize=SIZE, layout="constrained")
        low, high = np.percentile(made, [5, 95], axis=1)
        ax.fill_between(range(len(made)), low, high, color="#c6dbef", label="90 % of all paths")
        ax.plot(made[:, :PATHS], color="#08519c", linewidth=0.7)
        ax.set(xlabel="periods", ylabel="value", title=name)
        ax.legend(loc="upper left", frameon=False)
        _save(figure, path)
    return path.name


def _path(name: str, folder: Path) -> Path:
    (folder / "pictures").mkdir(parents=True, exist_ok=True)
    return folder / "pictures" / f"{name.replace(' ', '-')}.png"


def _save(figure: plt.Figure, path: Path) -> None:
    figure.savefig(path, dpi=100)
    plt.close(figure)
