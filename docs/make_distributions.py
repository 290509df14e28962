"""Write docs/distributions.md from the catalogue: ``make docs``."""

from pathlib import Path

from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.registry import parameter_names

PAGE = Path(__file__).parent / "distributions.md"
HEAD = """# Distributions

The name is what a model file and `kindynos distributions NAME` call it; in Python the class is
`kd.` and its name. Moments that do not exist are NaN or infinite. Any distribution can be drawn
with `.plot()`, cut with `.truncate(low, high)`, and moved and stretched as in `2 * X + 3`.
`X.from_range(low, high, coverage)` and `kd.from_percentiles(name, {10: 4.1, 90: 9.3})`
make one from an opinion.

| name | class and parameters | good for |
| --- | --- | --- |
"""


def page() -> str:
    """Return the text of the page."""
    rows, sections = [], []
    for name, distribution in CATALOGUE.items():
        call = f"{distribution.__name__}({', '.join(parameter_names(distribution))})"
        rows.append(f"| {name} | `{call}` | {distribution.use} |")
        description = distribution.about
        sections.append(f"## {name}\n\n`{call}`\n\n{description}\n")
    return HEAD + "\n".join(rows) + "\n\n" + "\n".join(sections)


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
