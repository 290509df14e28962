"""Pages of the documentation, done as a reader would do them, in a folder with the demo files.

- A block of ``toml`` whose first line names a file, ``# shop.toml``, is saved as that file.
- A block of ``text csv`` is saved as the file that the text before it names last.
- Blocks of ``python`` are run one after the other in one namespace. A block of ``text`` right after
  one shows what it printed, and the value of its last expression.
- In a block of ``console``, lines that begin with ``$ kindynos`` are run, and what follows each is
  what it printed; ``| head -20`` shows the first lines. Commands in ``bash`` are run without their
  output being shown. Other commands are not run, nor are blocks marked ``no-run``.

``python -m tests.pages [FILE ...]`` writes the outputs again.
"""

import ast
import io
import logging
import os
import re
import shlex
import shutil
import sys
import tempfile
import warnings
from contextlib import chdir, redirect_stdout
from dataclasses import dataclass, field
from pathlib import Path
from unittest import mock

import kindynos as kd
from tests.common import run

ROOT = Path(__file__).resolve().parents[1]
DEMO = Path(kd.__file__).parent / "demo"
FENCE = re.compile(r"^```(.*)\n((?:.*\n)*?)```$", re.M)
NUMBER = re.compile(r"(?<![\w.])[-+−]?\d[\d,]*(?:\.\d+)?(?:e[-+]?\d+)?")
WIDTH = "90"  # what a page of the site shows without scrolling


def all_pages() -> list[Path]:
    """Return README and all pages of the site that are written by hand."""
    folders = ("", "start", "how-to", "reference")
    found = [page for name in folders for page in sorted((ROOT / "docs" / name).glob("*.md"))]
    return [ROOT / "README.md", *found]


@dataclass
class Page:
    """A page, and what its blocks print when they are run in order."""

    path: Path
    names: dict = field(default_factory=lambda: {"__name__": "page"})
    problems: list[str] = field(default_factory=list)

    def done(self) -> str:
        """Return the text of the page with the outputs that its blocks have now."""
        text = self.path.read_text(encoding="utf-8")
        with (
            tempfile.TemporaryDirectory() as folder,
            mock.patch.dict(os.environ, {"COLUMNS": WIDTH}),
            warnings.catch_warnings(action="ignore"),
        ):
            here = Path(folder) / "larkholm"
            shutil.copytree(DEMO, here, ignore=shutil.ignore_patterns("*.py", "__pycache__"))
            log = logging.getLogger("kindynos")
            handlers = list(log.handlers)
            try:
                with chdir(here):
                    return self._with_outputs(text)
            finally:  # a page may have listened to the log
                log.handlers[:] = handlers
                log.setLevel(logging.NOTSET)

    def _with_outputs(self, text: str) -> str:
        parts, end, printed = [], 0, None
        for block in FENCE.finditer(text):
            between = text[end : block.start()]
            kind, content = block[1].strip(), block[2]
            if kind == "text" and printed is not None and not between.strip():
                content = printed
            named = re.findall(r"`([\w-]+\.csv)`", between)
            if kind == "text csv" and named:
                Path(named[-1]).write_text(content, encoding="utf-8")
            try:
                printed = self._run(kind, content)
            except Exception as error:  # told with all others
                self.problems.append(f"{error}\n  in {content.splitlines()[:2]}")
                printed = None
            if kind == "console":
                content, printed = printed or content, None
            parts += [between, f"```{block[1]}\n{content}```"]
            end = block.end()
        return "".join([*parts, text[end:]])

    def _run(self, kind: str, content: str) -> str | None:
        """Run a block, and return what it prints; None where it is not run."""
        first = content.partition("\n")[0]
        if kind == "toml" and re.fullmatch(r"# [\w.-]+\.toml", first):
            Path(first[2:]).write_text(content, encoding="utf-8")
        if kind == "python":
            return self._python(content)
        if kind == "bash":
            for line in re.sub(r"\\\n\s*", " ", content).splitlines():
                if line.startswith("kindynos ") and line != "kindynos demo":  # tested elsewhere
                    self._command(line)
        if kind == "console":
            return self._console(content)
        return None

    def _console(self, content: str) -> str:
        lines = []
        joined = re.sub(r"\\\n> ?", "\0", content)  # a command over several lines
        kept = True  # the output of a command that is not run stays
        for line in joined.splitlines():
            if line.startswith("$ "):
                lines.append(line.replace("\0", "\\\n> "))
                kept = not line.startswith("$ kindynos ")
                if not kept:
                    lines += self._command(line[2:].replace("\0", "")).splitlines()
            elif kept:
                lines.append(line)
        return "".join(f"{line}\n" for line in lines)

    def _command(self, line: str) -> str:
        command, _, head = line.partition(" | head -")
        answer = run(*shlex.split(command)[1:])
        if answer.returncode:
            self.problems.append(f"{line}: {answer.stderr}")
        shown = (answer.stdout + answer.stderr).splitlines()
        while shown and not shown[0].strip():
            shown = shown[1:]
        return "\n".join(part.rstrip() for part in (shown[: int(head)] if head else shown))

    def _python(self, code: str) -> str:
        tree = ast.parse(code)
        last = tree.body.pop() if tree.body and isinstance(tree.body[-1], ast.Expr) else None
        out = io.StringIO()
        with redirect_stdout(out):
            exec(compile(tree, self.path.name, "exec"), self.names)
            if last is not None:
                value = eval(
                    compile(ast.Expression(last.value), self.path.name, "eval"), self.names
                )
                if value is not None:
                    print(value if isinstance(value, str) else repr(value))
        return "".join(f"{line.rstrip()}\n" for line in out.getvalue().splitlines())


def same(one: str, other: str) -> bool:
    """Return whether two texts are the same, but for one in the last digit of their figures."""
    if NUMBER.sub("0", one).split() != NUMBER.sub("0", other).split():
        return False
    pairs = zip(NUMBER.findall(one), NUMBER.findall(other), strict=True)
    return all(a == b or abs(_value(a) - _value(b)) <= 1.01 * _unit(a) for a, b in pairs)


def figures_without_source(text: str) -> list[str]:
    """Return the figures of three digits and more in the sentences of a page that stand in none of
    its blocks.
    """
    blocks = " ".join(block[2] for block in FENCE.finditer(text))
    known = {_value(figure.lstrip("+-−")) for figure in NUMBER.findall(blocks)}
    prose = FENCE.sub("", text)
    prose = re.sub(r"Python \d+\.\d+", "", prose)  # a version
    prose = re.sub(r"`[^`]*`|\]\([^)]*\)|\$[^$]*\$|^\|.*$|^#.*$|<!--.*?-->", "", prose, flags=re.M)
    found = [figure.lstrip("+-−") for figure in NUMBER.findall(prose)]
    return [
        figure
        for figure in found
        if len(figure.replace(",", "").replace(".", "").strip("0")) >= 3
        and not 1900 <= _value(figure) <= 2100
        and _value(figure) not in known
    ]


def _value(figure: str) -> float:
    return float(figure.replace(",", "").replace("−", "-"))


def _unit(figure: str) -> float:
    """Return one unit of the last digit shown."""
    digits, _, power = figure.partition("e")
    return 10.0 ** (int(power or 0) - len(digits.partition(".")[2]))


if __name__ == "__main__":
    for path in [Path(name).resolve() for name in sys.argv[1:]] or all_pages():
        page = Page(path)
        before, after = path.read_text(encoding="utf-8"), page.done()
        for problem in page.problems:
            sys.stdout.write(f"{path.relative_to(ROOT)}: {problem}\n")
        if before != after:
            path.write_text(after, encoding="utf-8")
            sys.stdout.write(f"Written: {path.relative_to(ROOT)}\n")
        for figure in figures_without_source(after):
            sys.stdout.write(f"{path.relative_to(ROOT)}: {figure} stands in none of its blocks\n")
