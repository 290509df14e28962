"""Notebooks of the examples, executed as a notebook does it: all cells in one namespace, and of a
last expression the HTML is shown, or the text. ``python -m tests.notebooks`` writes the outputs
again.
"""

import ast
import io
import json
import sys
import warnings
from contextlib import chdir, redirect_stdout
from pathlib import Path

FOLDER = Path(__file__).parents[1] / "examples"


def outputs_of(cell, names):
    """Return what a notebook shows below a cell of code."""
    tree = ast.parse("".join(cell["source"]))
    last = tree.body.pop() if tree.body and isinstance(tree.body[-1], ast.Expr) else None
    printed = io.StringIO()
    with redirect_stdout(printed), warnings.catch_warnings(action="ignore"):
        exec(compile(tree, "cell", "exec"), names)
        shown = (
            None
            if last is None
            else eval(compile(ast.Expression(last.value), "cell", "eval"), names)
        )
    found = []
    if printed.getvalue():
        text = printed.getvalue().splitlines(keepends=True)
        found.append({"output_type": "stream", "name": "stdout", "text": text})
    if shown is not None:
        data = {"text/plain": repr(shown).splitlines(keepends=True)}
        html = getattr(shown, "_repr_html_", None)
        if html is not None and html() is not None:
            data["text/html"] = html().splitlines(keepends=True)
        found.append(
            {"output_type": "execute_result", "data": data, "metadata": {}, "execution_count": None}
        )
    return found


def executed(path):
    """Return a notebook with the outputs that its cells have now."""
    book = json.loads(path.read_text(encoding="utf-8"))
    names = {"__name__": "notebook"}
    with chdir(path.parent):
        for cell in book["cells"]:
            if cell["cell_type"] == "code":
                cell["outputs"] = outputs_of(cell, names)
    return book


if __name__ == "__main__":
    for path in sorted(FOLDER.glob("*.ipynb")):
        book = executed(path)
        path.write_text(json.dumps(book, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
        sys.stdout.write(f"Written: {path.name}\n")
