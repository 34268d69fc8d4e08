"""direkt schema: JSON Schemas of sheets and rigs, made from the models that check them."""

from __future__ import annotations

import click

from direkt.cli import common


@click.command()
@click.argument("what", type=click.Choice(["sheet", "rig"]))
def schema(what: str) -> None:
    """Print the JSON Schema of sheets or rigs, so that an editor completes and checks them."""
    from direkt import rig
    from direkt.sheet import file

    made = file.json_schema() if what == "sheet" else rig.RigFile.model_json_schema(by_alias=True)
    common.print_json({"$schema": "https://json-schema.org/draft/2020-12/schema", **made, "title": f"direkt {what}"})
