"""Write what the site shows of the code: the pages of ``docs/made``, and their pictures.

Everything is read from where the code has it: names by topic from the stub of public names,
distributions and processes from their catalogues, functions of formulas from their registry, keys
of model files from the schema.
"""

import ast
import inspect
import re
import tomllib
import warnings
from pathlib import Path

import click

import kindynos as kd
from _site.choices import DISTRIBUTIONS, PROCESSES
from _site.pictures import draw, draw_paths
from _site.plots import BEGIN, EXAMPLES
from _site.plots import draw as draw_example
from kindynos.cli import COMMANDS, cli
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.registry import parameter_names
from kindynos.formula.functions import FUNCTIONS
from kindynos.model.schema import json_schema
from kindynos.processes.registry import PROCESSES as PROCESS_CLASSES

DOCS = Path(__file__).parents[1]
MADE = DOCS / "made"
STUB = Path(kd.__file__).parent / "__init__.pyi"
NAME = re.compile(r"^from (\S+) import (\w+) as \w+$", re.M)
SHAPES = {
    "row": "a row",
    "column": "one number",
    "same": "as its arguments",
    "number": "one number",
}


def write() -> None:
    """Write all made pages and pictures; a file that has not changed is left as it is."""
    (MADE / "api").mkdir(parents=True, exist_ok=True)
    pages = {
        "distributions.md": distributions(),
        "processes.md": processes(),
        "functions.md": functions(),
        "code.md": code(),
        "model-keys.md": model_keys(),
        "commands.md": commands(),
        **{f"api/{name}.md": text for name, text in api().items()},
    }
    for old in MADE.rglob("*.md"):
        if old.relative_to(MADE).as_posix() not in pages:
            old.unlink()
    for name, text in pages.items():
        path = MADE / name
        path.parent.mkdir(parents=True, exist_ok=True)
        if not path.exists() or path.read_text(encoding="utf-8") != text:
            path.write_text(text, encoding="utf-8")


def commands() -> str:
    """Return every command with its description, its examples and its options."""
    parts = [
        "# Commands\n\nWhich commands are there, and what are their options? Every command prints "
        "this page's part of it: `kindynos run --help`. Exit status: 0 done, 1 the run failed, "
        "2 bad input, 3 a limit is broken.\n"
    ]
    context = click.Context(cli)
    for title, names in COMMANDS.items():
        parts.append(f"## {title}\n")
        for name in names:
            command = cli.get_command(context, name)
            arguments = " ".join(
                str(one.make_metavar(context))
                for one in command.params
                if isinstance(one, click.Argument)
            )
            parts.append(f"### kindynos {name} {arguments}".rstrip() + "\n")
            parts += [_paragraph(text) for text in inspect.cleandoc(command.help).split("\n\n")]
            rows = [
                _option(one)
                for one in command.params
                if isinstance(one, click.Option) and not one.hidden
            ]
            if rows:
                parts.append("| option | meaning |\n| --- | --- |\n" + "\n".join(rows) + "\n")
    return "\n".join(parts)


def _paragraph(text: str) -> str:
    """Return a paragraph of help, or its examples as they are."""
    if text.startswith("\b\n"):
        shown = inspect.cleandoc(text[2:])
        return f"```{'bash' if shown.startswith('kindynos') else 'text'}\n{shown}\n```\n"
    return f"{_plain(text)}\n"


def _option(option: click.Option) -> str:
    value = "" if option.is_flag else f" {option.metavar or option.type.name.upper()}"
    spelled = ", ".join(f"`{word}{value}`" for word in option.opts).replace("|", "\\|")
    shown = option.show_default and option.default is not None and not option.is_flag
    default = f" Default: {option.default}." if shown and str(option.default) else ""
    return f"| {spelled} | {_plain(option.help or '')}{default} |"


def _plain(text: str) -> str:
    """Return words of help as Markdown that shows them as they are."""
    return re.sub(r"([<>|*_\[\]])", r"\\\1", " ".join(text.split()))


def distributions() -> str:
    """Return the guide to distributions: by question, each with a picture."""
    parts = [
        "# Which distribution?\n",
        "Which distribution says what you know about an uncertain figure? Find your question "
        "below. Each entry has a picture of an example, its formula, what it is good for and when "
        "it is the wrong choice. A model file calls a distribution by its heading, Python by its "
        "class, and `kindynos distributions NAME` shows one in the terminal.\n",
        _questions(),
    ]
    for question, entries in DISTRIBUTIONS.items():
        parts.append(f"## {question}\n")
        for name, example, caution in entries:
            kind = CATALOGUE[name]
            picture = draw(name, _made(example), MADE)
            call = f"{kind.__name__}({', '.join(parameter_names(kind))})"
            parts.append(
                f"### {name}\n\n![Density of {example}](pictures/{picture}){{width=420px}}\n\n"
                f"`{example}`\n\n**Good for:** {kind.use}.\n\n**Wrong choice:** {caution}\n\n"
                f"**Formula:** `{kind.formula}`\n\n"
                f"**Class:** {{py:class}}`kindynos.{kind.__name__}`, `{call}`\n"
            )
    parts.append(
        "**Next:** [make inputs move together](../how-to/dependence.md), or "
        "[fit distributions to records](../how-to/fit.md).\n"
    )
    return "\n".join(parts)


def _questions() -> str:
    rows = "\n".join(
        f"| {question} | {', '.join(f'[{name}](#{_anchor(name)})' for name, _, _ in entries)} |"
        for question, entries in DISTRIBUTIONS.items()
    )
    return f"| your question | distributions |\n| --- | --- |\n{rows}\n"


def _anchor(name: str) -> str:
    return name.replace(" ", "-")


def processes() -> str:
    """Return the guide to processes, each with a picture of its paths."""
    parts = [
        "# Which process?\n",
        "Which process says how a price, a rate or a monthly figure moves from one period to the "
        "next? Each entry shows simulated paths of an example, its formula, what it is good for "
        "and when it is the wrong choice. `kindynos fit FILE --series` ranks them on your own "
        "records.\n",
        "| your figure is | process |\n| --- | --- |",
        *(
            f"| {PROCESS_CLASSES[name].use} | [{name}](#{_anchor(name)}) |"
            for name, *_ in PROCESSES
        ),
        "",
    ]
    for name, example, caution in PROCESSES:
        kind = PROCESS_CLASSES[name]
        picture = draw_paths(name, _made(example), MADE)
        parts.append(
            f"## {name}\n\n![Paths of {name}](pictures/{picture}){{width=420px}}\n\n"
            f"```python\n{example}\n```\n\n**Good for:** {kind.use}.\n\n"
            f"**Wrong choice:** {caution}\n\n**Formula:** `{kind.formula}`\n\n"
            f"**Class:** {{py:class}}`kindynos.{kind.__name__}`\n"
        )
    parts.append(
        "**Next:** [simulate prices](../how-to/simulate-prices.md), or "
        "[forecast a series](../how-to/forecast.md).\n"
    )
    return "\n".join(parts)


def _made(example: str) -> object:
    with warnings.catch_warnings(action="ignore"):
        return eval(example, {"kd": kd})


def functions() -> str:
    """Return the table of the functions of formulas."""
    rows = []
    for name, function in FUNCTIONS.items():
        words = []
        for parameter in function.parameters:
            word = "/".join(parameter.words) if parameter.words else parameter.name
            words.append(f"[{word}]" if parameter.optional else word)
        call = f"{name}({', '.join(words)}{', ...' if function.many else ''})"
        gives = SHAPES.get(function.gives, function.gives)
        rows.append(f"| `{call}` | {function.help} | {gives} |")
    head = (
        "# Functions of formulas\n\nFormulas in model files, and those of `model.line` and "
        "`model.outcome`, know these functions. Arguments in brackets may be left out; a row has a "
        "value for each period.\n\n| function | value | shape |\n| --- | --- | --- |\n"
    )
    return head + "\n".join(rows) + "\n"


def model_keys() -> str:
    """Return the keys of model files, from the schema that the reader checks them by."""
    found = json_schema()
    parts = [
        "# Keys of model files\n\nThese are the tables and keys that a model file may have, as "
        "`kindynos schema model` prints them for editors. "
        "[Model files](../reference/model-files.md) explains them with examples.\n"
    ]
    tables = {"The file": found, **found["$defs"]}
    for title, table in tables.items():
        about = " ".join(table.get("description", "").split())
        rows = [
            f"| `{key}` | {_kind(value)} | {' '.join(value.get('description', '').split())} |"
            for key, value in table.get("properties", {}).items()
        ]
        if rows:
            parts.append(
                f"## {title}\n\n{about}\n\n| key | type | meaning |\n| --- | --- | --- |\n"
                + "\n".join(rows)
                + "\n"
            )
    return "\n".join(parts)


def code() -> str:
    """Return the map of the code: each layer, and each file by the first sentence of it."""
    package = STUB.parent
    order = tomllib.loads((DOCS.parent / "pyproject.toml").read_text())
    contract = order["tool"]["importlinter"]["contracts"][0]
    layers = [name.strip() for layer in contract["layers"] for name in layer.split(":")]
    parts = [
        "# Map of the code\n",
        "Where does a thing live? Each file of `src/kindynos` has one idea, and begins with a "
        "sentence that names it. The layers are listed from the top: each imports only from those "
        "below it, which `make check` holds.\n",
        "## Files of no layer of their own\n",
        _files_table(sorted(package.glob("*.py")), package),
    ]
    for name in layers:
        files = sorted((package / name).rglob("*.py"))
        if files:
            parts += [f"## {name}\n", _files_table(files, package)]
    return "\n".join(parts)


def _files_table(files: list[Path], package: Path) -> str:
    rows = []
    for path in files:
        text = ast.get_docstring(ast.parse(path.read_text(encoding="utf-8"))) or ""
        sentence = " ".join(text.split("\n\n")[0].split())
        if sentence:
            rows.append(f"| `{path.relative_to(package)}` | {_plain(sentence)} |")
    return "| file | what it is |\n| --- | --- |\n" + "\n".join(rows) + "\n"


def _kind(value: dict) -> str:
    choices = value.get("anyOf", [value])
    words = [
        " or ".join(f"`{word}`" for word in one["enum"])
        if "enum" in one
        else one.get("type") or one.get("$ref", "any").rpartition("/")[2]
        for one in choices
    ]
    return " or ".join(word for word in words if word != "null")


def api() -> dict[str, str]:
    """Return a page for each public object, a page for each topic of the stub of public names with
    the list of them, and the list of topics.
    """
    text = STUB.read_text(encoding="utf-8")
    topics = re.split(r"^# (?=[A-Z])", text.partition("# Models")[2], flags=re.M)
    topics[0] = "Models\n" + topics[0]
    pages, names = {}, []
    for topic in topics:
        title, _, rest = topic.partition("\n")
        title = title.partition(";")[0].partition(": classes")[0].rstrip(".")
        members = [name for module, name in NAME.findall(rest) if module != "kindynos"]
        if members:
            page = re.sub(r"\W+", "-", title.lower()).strip("-")
            names.append((page, title))
            pages |= _topic(page, title, members, "kindynos")
    for package in ("finance", "markets", "plots"):
        module = getattr(kd, package)
        public = [
            name for name in module.__all__ if getattr(kd, name, None) is not getattr(module, name)
        ]
        names.append((package, f"kindynos.{package}"))
        pages |= _topic(package, f"kindynos.{package}", public, f"kindynos.{package}")
    listed = "\n".join(f"{title} <{page}>" for page, title in names)
    pages["index"] = (
        "# Python names by topic\n\n`import kindynos as kd` gives these names; `help(kd)` lists "
        f"them in the same order.\n\n```{{toctree}}\n:maxdepth: 1\n\n{listed}\n```\n"
    )
    return pages


def _topic(page: str, title: str, names: list[str], module: str) -> dict[str, str]:
    """Return the page of a topic, with a line for each of its objects, and the pages of these."""
    table = "\n".join(f"   {name}" for name in names)
    files = {name: f"{page}/{name}" for name in names}
    listed = (
        f"# {title}\n\n```{{eval-rst}}\n.. currentmodule:: {module}\n\n"
        f".. autosummary::\n\n{table}\n```\n\n"
    )
    return {page: listed} | {files[name]: _object(module, name, page, title) for name in names}


def _object(module: str, name: str, page: str, topic: str) -> str:
    """Return the page of an object: what it is, its members, and what it draws."""
    value = getattr(__import__(module, fromlist=[name]), name)
    kind = "class" if isinstance(value, type) else "function"
    if isinstance(value, type) and issubclass(value, BaseException):
        kind = "exception"
    options = "   :members:\n" if kind == "class" else ""
    text = (
        f"---\norphan: true\n---\n\n# {name}\n\nPart of [{topic}](../{page}.md).\n\n"
        f"```{{eval-rst}}\n.. currentmodule:: {module}\n\n"
        f".. auto{kind}:: {name}\n{options}```\n"
    )
    drawn = [name] if module == "kindynos.plots" else _drawn_by(value)
    for plot in drawn:
        if plot in EXAMPLES:
            picture = draw_example(plot, MADE)
            text += (
                f"\n## A picture\n\n```python\n{BEGIN}{EXAMPLES[plot]}\n```\n\n"
                f"![What this draws](../../pictures/{picture}){{width=640px}}\n"
            )
    return text


def _drawn_by(value: object) -> list[str]:
    """Return the function of ``kindynos.plots`` that the method ``plot`` of a class stands for."""
    method = getattr(value, "plot", None)
    if (
        not isinstance(value, type) or method is None or issubclass(value, kd.Distribution)
    ):  # whose guide has the pictures
        return []
    work = re.search(r'delegated_to\("kindynos.plots", "(\w+)"\)', inspect.getsource(method))
    return [work[1]] if work else []
