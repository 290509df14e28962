"""``kindynos schema``: what a file may hold, for editors."""

from __future__ import annotations

import json

import click


@click.command()
def schema() -> None:
    """Print the JSON Schema of model files: their tables and keys, with descriptions and examples.
    An editor that knows it (written to a file, as with > model.schema.json) completes and checks a
    model while it is typed.

    \b
      kindynos schema
    """
    from kindynos.model.schema import json_schema

    click.echo(json.dumps(json_schema(), indent=2))
