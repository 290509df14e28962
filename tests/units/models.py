"""Models with units as people of many trades write them, from compact lines to model files."""

import re
from pathlib import Path

FOLDER = Path(__file__).parent
STARTS = {"month": "2028-01", "quarter": "2028-Q1", "year": "2028"}
ENTRY = re.compile(r"\s*(\w+) = (.*?)\s*(?:\[(.*)\])?")
NUMBER = re.compile(r"-?\d*\.?\d+$")


def read(name):
    """Return the model files of a list of models, by name."""
    models = {}
    for line in (FOLDER / f"{name}.txt").read_text(encoding="utf-8").splitlines():
        if line.strip() and not line.startswith("#"):
            models.update([written(line)])
    return models


def written(line):
    """Return the name and the model file of a compact line."""
    head, figures, lines = line.split(" | ")
    name, _, periods = head.partition(", ")
    text = f'[model]\nname = "{name}"\n'
    if periods.strip() != "-":
        count, every = periods.split()
        every = every.rstrip("s")
        text += f'periods = {count}\nstart = "{STARTS[every]}"\nevery = "{every}"\n'
    given, drivers = ["[given]"], []
    for figure in figures.split(";"):
        label, *words = figure.split()
        numbers = []
        while words and NUMBER.match(words[0]) and len(numbers) < 3:
            numbers.append(float(words.pop(0)))
        unit = "" if words in ([], ["."]) else f'unit = "{" ".join(words)}"'
        if len(numbers) == 3:
            low, mode, high = numbers
            drivers += [f"[drivers.{label}]", 'distribution = "triangular"']
            drivers += [f"low = {low}", f"mode = {mode}", f"high = {high}", unit]
        else:
            if len(numbers) == 2:
                raise ValueError(f"{name}: {figure}")
            given.append(f"{label} = {{ value = {numbers[0]}{', ' * bool(unit)}{unit} }}")
    body = ["[lines]"]
    entries = [
        re.fullmatch(r"\s*(\w+) = (.*?)\s*(?:\[(.*)\])?", one).groups("")
        for one in lines.split(";")
    ]
    for label, formula, unit in entries[:-1]:
        stated = f', unit = "{unit}"' if unit else ""
        body.append(f'{label} = {{ formula = "{formula}"{stated} }}')
    label, formula, unit = entries[-1]
    body += [f"[outcomes.{label}]", f'formula = "{formula}"', f'unit = "{unit}"' if unit else ""]
    return name, "\n".join([text, *given, *drivers, *body]) + "\n"
