"""``kindynos schema``: what a file may hold, for editors."""

from __future__ import annotations

import json
from importlib import import_module

import click

SCHEMAS = {  # where the schema of each kind of file is made
    "model": "kindynos.model.schema",
    "decision": "kindynos.decisions.schema",
    "holdings": "kindynos.markets.schema",
}


@click.command()
@click.argument("kind", type=click.Choice(list(SCHEMAS)), default="model")
def schema(kind: str) -> None:
    """Print the JSON Schema of files of a KIND, model (the default), decision or holdings: their
    tables and keys, with descriptions and examples. An editor that knows it (written to a file, as
    with > model.schema.json) completes and checks a file while it is typed.

    Of holdings, which are a table, it is the schema of the rows.

    \b
      kindynos schema
      kindynos schema decision
    """
    click.echo(json.dumps(import_module(SCHEMAS[kind]).json_schema(), indent=2))
