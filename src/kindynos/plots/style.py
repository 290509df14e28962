"""What all pictures share: colours that differ in lightness too, number formats, and saving."""

from __future__ import annotations

import re
import warnings
from collections.abc import Callable
from functools import wraps
from inspect import signature
from numbers import Integral, Real
from pathlib import Path
from textwrap import fill
from typing import Any, ParamSpec, TypeVar

from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter

from kindynos import literals
from kindynos.arrays import Floats
from kindynos.atomic import replacing
from kindynos.errors import KindynosError, ParameterError
from kindynos.formatting import is_per_cent, number, spoken
from kindynos.validate import array_of, checked, invalid_argument, path_of

Arguments = ParamSpec("Arguments")
Canvas = TypeVar("Canvas", Axes, Figure)

DARK, MIDDLE, LIGHT, INK, ACCENT = "#1f4e79", "#6fa3cf", "#cfe0ef", "#222222", "#d9730d"

STYLE: Any = {
    "text.parse_math": False,  # a dollar sign in a name is one
    "text.usetex": False,
    "axes.titlelocation": "left",
    "legend.frameon": False,
}
# annotations of one class or a plain value; those of mappings and the like are left to the picture
KIND = re.compile(
    r"(?!Any$|ArrayLike$|Callable|Iterable|Sequence|Mapping)(pd\.)?[A-Z]\w+|str|int|float|None"
)
ENDLESS = re.compile(r"\b(NaN|Inf)\b")  # in what Matplotlib says of its axes
NEW: Any = None  # axes, or a figure, of their own
PAGE = (12.8, 8.0)
BANDS = ((5, 95, LIGHT), (25, 75, MIDDLE))


def _drawn_on(
    name: str, make: Callable[[], Canvas], finish: Callable[[Canvas], None]
) -> Callable[[Callable[Arguments, None]], Callable[Arguments, Canvas]]:
    """Return a decorator of what draws on its argument ``name``: one is made where none is given,
    the style is that of all pictures, and what was drawn on is returned.
    """

    def decorate(draw: Callable[Arguments, None]) -> Callable[Arguments, Canvas]:
        parameters = signature(draw)

        @wraps(draw)
        def call(*arguments: Arguments.args, **named: Arguments.kwargs) -> Canvas:
            import matplotlib.pyplot  # noqa: F401  # before the style: see below
            from matplotlib import rc_context

            bound = parameters.bind(*arguments, **named)
            for parameter, value in bound.arguments.items():
                kind = str(draw.__annotations__.get(parameter, ""))
                if parameter != name or value is not None:
                    bound.arguments[parameter] = _of_kind(parameter, value, kind)
            # pyplot comes first: within the style, the backend of a notebook would be lost again
            with rc_context(STYLE):
                own = bound.arguments.get(name)
                canvas: Canvas = make() if own is None else own
                bound.arguments[name] = canvas
                try:
                    draw(*bound.args, **bound.kwargs)
                except BaseException as error:
                    if own is None:
                        _close(canvas)
                    if isinstance(error, ValueError) and ENDLESS.search(str(error)):
                        raise KindynosError(
                            "cannot be drawn: its figures are infinite, or there are none"
                        ) from None
                    raise
                finish(canvas)
            return canvas

        call.__annotations__ = {**draw.__annotations__, "return": make.__annotations__["return"]}
        return checked(call)

    return decorate


def _of_kind(name: str, value: Any, stated: str) -> Any:
    """Return an argument of a picture that is of a kind its annotation states, arrays as such;
    raises ParameterError for another. Kinds are known by the names of their classes, so that a
    picture need not import what it does not draw.
    """
    if stated == "Floats":
        array = array_of(name, value)
        if not array.ndim or not array.size:
            raise invalid_argument(name, "an array with values", value)
        return array
    kinds = ["str" if hasattr(literals, one) else one for one in re.split(r" *\| *", stated)]
    if value is None and "None" in kinds:
        return value
    if not all(KIND.fullmatch(kind) for kind in kinds):
        return value
    own = {one.__name__ for one in type(value).__mro__}
    own |= {"float"} if isinstance(value, Real) else set()
    own |= {"int"} if isinstance(value, Integral) else set()
    if own & {kind.rpartition(".")[2] for kind in kinds}:
        return value
    wanted = [kind.rpartition(".")[2] for kind in kinds if kind != "None"]
    article = "an" if wanted[0][0] in "AEIOU" else "a"
    raise invalid_argument(name, f"{article} {' or '.join(wanted)}", value)


def of_paths(paths: Floats) -> None:
    """Raise ParameterError for an array that is not one of paths."""
    if paths.ndim != 2 or len(paths) < 2:
        raise ParameterError(f"paths must be (periods + 1, trials), not {paths.shape}")


def _close(canvas: Axes | Figure) -> None:
    """Forget what nothing was drawn on."""
    from matplotlib import pyplot

    figure = canvas if isinstance(canvas, Figure) else canvas.get_figure(root=True)
    pyplot.close(figure)


def _new_axes() -> Axes:
    import matplotlib.pyplot as plt

    return plt.subplots(figsize=(9, 5.5), layout="constrained")[1]


def _new_page() -> Figure:
    import matplotlib.pyplot as plt

    return plt.figure(figsize=PAGE, layout="constrained")


def bare(ax: Axes) -> None:
    """Take away the frame's upper and right side."""
    ax.spines[["top", "right"]].set_visible(False)


picture = _drawn_on("ax", _new_axes, bare)
framed_picture = _drawn_on("ax", _new_axes, lambda _: None)
page = _drawn_on("figure", _new_page, lambda _: None)


def checked_colour(colour: Any) -> str:
    """Return a colour that Matplotlib knows; raises ParameterError for another."""
    from matplotlib.colors import is_color_like

    if not is_color_like(colour):
        raise invalid_argument(
            "a colour",
            "a name or code that Matplotlib knows, such as 'orange' or '#d9730d'",
            colour,
        )
    return str(colour)


def checked_format(text: Any) -> str:
    """Return a format of one number, such as ``"{:,.1f}"``; raises ParameterError for another
    text.
    """
    try:
        text.format(1.0)
    except (AttributeError, IndexError, KeyError, ValueError):
        raise invalid_argument(
            "number_format", 'a format of one number, such as "{:,.1f}"', text
        ) from None
    return str(text)


def bands(ax: Axes, x: Any, percentiles: Callable[[list[int]], Any], of: str) -> None:
    """Draw the middle 90 % and 50 % over the periods."""
    for low, high, colour in BANDS:
        below, above = percentiles([low, high])
        label = f"{high - low} % of {of} (P{low} to P{high})"
        ax.fill_between(x, below, above, color=colour, lw=0, label=label)


def scale_of(values: Any, unit: str | None = None) -> tuple[float, str]:
    """Return what to divide by so that ticks are short, and the word for it; fractions in per cent
    are shown times 100.
    """
    import numpy as np

    if is_per_cent(unit):
        return 0.01, ""
    finite = np.abs(np.asarray(values)[np.isfinite(values)])
    largest = float(finite.max()) if finite.size else 0.0
    for factor, label in ((1e9, "billion "), (1e6, "million "), (1e3, "thousand ")):
        if largest >= 2 * factor:
            return factor, label
    return 1.0, ""


def quantity_label(name: str, unit: str | None, label: str) -> str:
    """Return an axis label: ``net value (million EUR)``."""
    inside = f"{label}{unit or ''}".strip()
    return spoken(name) + (f" ({inside})" if inside else "")


def scaled_ticks(axis: Any, factor: float) -> None:
    """Label an axis in the scaled unit."""
    axis.set_major_formatter(FuncFormatter(lambda value, _: number(round(value / factor, 10))))


@checked
def save_figure(
    path: str | Path, draw: Callable[..., Any], size: tuple[float, float] = PAGE, page: bool = False
) -> None:
    """Draw on a new figure and save it as PNG, or as SVG by the file's name, by way of a temporary
    file.

    ``draw`` gets its axes as ``ax``, or for a ``page`` of several the ``figure`` itself.
    """
    from matplotlib import rc_context
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    # of infinite values, which lie off the axes, and of labels that leave no room for a layout
    quiet = warnings.catch_warnings(action="ignore", category=RuntimeWarning)
    tight = warnings.catch_warnings(action="ignore", category=UserWarning)
    target = path_of("path", path)
    with replacing(target) as temporary, rc_context({"font.size": 12, **STYLE}), quiet, tight:
        figure = Figure(figsize=size, dpi=100, layout="constrained")
        try:
            if page:
                draw(figure=figure)
            else:
                draw(ax=figure.subplots())
        except KindynosError as error:  # what cannot be drawn says why in its place
            figure.clear()
            figure.set_layout_engine("none")
            figure.text(0.5, 0.5, fill(str(error), 80), ha="center", va="center", color=INK)
        engine = figure.get_layout_engine()
        if engine is not None:
            engine.execute(figure)
            figure.set_layout_engine("none")
        if target.suffix == ".svg":
            from matplotlib.backends.backend_svg import FigureCanvasSVG

            # text as text: smaller, and found by a search in the page
            with rc_context({"svg.fonttype": "none", "svg.hashsalt": "kindynos"}):
                picture: Any = FigureCanvasSVG(figure)
                picture.print_svg(temporary, metadata={"Date": None})
            return
        # Written directly, since ``savefig`` would draw everything once more to lay it out.
        canvas: Any = FigureCanvasAgg(figure)
        canvas.print_png(temporary, pil_kwargs={"compress_level": 4})
