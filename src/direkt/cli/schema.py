"""direkt schema: JSON Schemas of sheets, rigs, driver files and JSON documents, made from what checks them."""

from __future__ import annotations

import difflib
import functools
import operator
from typing import TYPE_CHECKING, Any

import click

from direkt.cli import output
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from pydantic.json_schema import GenerateJsonSchema


@click.command()
@click.argument("name", required=False)
def schema(name: str | None) -> None:
    """Print the JSON Schema of NAME: a file (sheet, rig, driver, platform) or a command's --json (check, read, key-set ...).

    Without NAME, lists what there is.
    """
    from direkt.cli.documents import documents

    names = ["sheet", "rig", "driver", "platform", *documents()]
    if name is None:
        click.echo("\n".join(names))
        return
    if name not in names:
        near = difflib.get_close_matches(name, names, n=1)
        hint = f"did you mean {near[0]}?" if near else f"there is {', '.join(names)}"
        raise UnusableInput(f"no schema of the name {name!r}; {hint}")
    made = {"$schema": "https://json-schema.org/draft/2020-12/schema", **made_of(name), "title": f"direkt {name}"}
    output.print_json(made)


def made_of(name: str) -> dict[str, object]:
    from pydantic import TypeAdapter

    from direkt.cli.documents import documents
    from direkt.destination import file
    from direkt.device import library
    from direkt.rig import file as rig

    if name == "sheet":
        return file.json_schema()
    if name == "rig":
        return rig.RigFile.model_json_schema(by_alias=True)
    if name == "platform":
        from direkt.platform import platform_file

        return platform_file.PlatformFile.model_json_schema(by_alias=True)
    if name == "driver":
        return TypeAdapter(functools.reduce(operator.or_, library.models())).json_schema(by_alias=True)
    return TypeAdapter(documents()[name]).json_schema(mode="serialization", schema_generator=_printed())


def _printed() -> type[GenerateJsonSchema]:
    """Makes the schema of what is printed, where what has a default is there all the same."""
    from pydantic.json_schema import GenerateJsonSchema

    class Printed(GenerateJsonSchema):
        def field_is_required(self, field: Any, total: bool) -> bool:
            return field["type"] == "dataclass-field" or super().field_is_required(field, total)

    return Printed
