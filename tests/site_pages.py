"""Makes the source of the site: ``python -m tests.site_pages FOLDER``. The pages of docs/, and the reference: commands from Click, files and
JSON documents from what checks them."""

from __future__ import annotations

import inspect
import shutil
import sys
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import click

from direkt.cli.documents import documents
from direkt.cli.main import cli
from direkt.cli.schema import made_of as schema_of

ROOT = Path(__file__).resolve().parent.parent
FILES = {"rig": "Rig files", "sheet": "Ingest sheets", "driver": "Driver files", "platform": "Platform files"}


def make(folder: Path) -> None:
    """Writes all of it, anew."""
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(ROOT / "docs", folder)
    for name, place in (("README.md", "index.md"), ("SECURITY.md", "reporting.md"), ("CHANGELOG.md", "changes.md")):
        text = (ROOT / name).read_text().replace("](docs/", "](")
        for other in ("NOTICE", "LICENSE"):
            text = text.replace(f"]({other})", f"](files/{other}.txt)")
        (folder / place).write_text(text.replace("](SECURITY.md)", "](reporting.md)"))
    (folder / "files").mkdir()
    for name in ("NOTICE", "LICENSE"):
        shutil.copy(ROOT / name, folder / "files" / f"{name}.txt")
    reference = folder / "reference"
    reference.mkdir()
    (reference / "commands.md").write_text("# Commands\n\n" + "\n".join(_commands(cli, ["direkt"])))
    for name, title in FILES.items():
        (reference / f"{name}.md").write_text(f"# {title}\n\n`direkt schema {name}` prints this as a JSON Schema.\n\n" + "\n".join(_model(schema_of(name))))
    parts = [f"## {name}\n\n" + "\n".join(_model(schema_of(name), "###")) for name in documents()]
    (reference / "json.md").write_text("# JSON documents\n\nWhat `--json` prints, by command.\n\n" + "\n".join(parts))


def _commands(command: click.Command, path: list[str]) -> Iterator[str]:
    context = click.Context(command, info_name=path[-1])
    yield f"{'#' * min(len(path) + 1, 4)} {' '.join(path)}\n"
    yield f"{_safe(inspect.cleandoc(command.help or ''))}\n"
    arguments = " ".join(part for one in command.params if isinstance(one, click.Argument) for part in one.get_usage_pieces(context))
    if not isinstance(command, click.Group):
        yield f"    {' '.join(path)} [OPTIONS] {arguments}\n".rstrip() + "\n"
        rows = [record for one in command.get_params(context) if (record := one.get_help_record(context)) is not None]
        yield "| option | |\n|---|---|"
        yield from (f"| <code>{_cell(option)}</code> | {_cell(words)} |" for option, words in rows if words)
        yield ""
        return
    for name in command.list_commands(context):
        inner = command.get_command(context, name)
        if inner is not None and not inner.hidden:
            yield from _commands(inner, [*path, name])


def _safe(text: str) -> str:
    return text.replace("<", "&lt;").replace("\b", "")


def _cell(text: str) -> str:
    return " ".join(_safe(text).replace("|", "&#124;").split())


def _model(schema: Mapping[str, Any], mark: str = "##") -> Iterator[str]:
    """The entries of a schema, and of what it holds."""
    yield from _table(schema)
    for name, one in schema.get("$defs", {}).items():
        if "properties" in one:
            yield f"{mark} {name}\n"
            if one.get("description"):
                yield f"{_safe(one['description'])}\n"
            yield from _table(one)


def _table(schema: Mapping[str, Any]) -> Iterator[str]:
    needed = schema.get("required", [])
    if schema.get("properties"):
        yield "| entry | what it may be | else |\n|---|---|---|"
        for name, one in schema["properties"].items():
            other = "required" if name in needed else f"`{_cell(str(one['default']))}`" if "default" in one else ""
            yield f"| `{name}` | {_cell(_kind(one))} | {other} |"
        yield ""


def _kind(one: Mapping[str, Any]) -> str:
    match one:
        case {"$ref": str(place)}:
            return place.rpartition("/")[2]
        case {"const": value}:
            return str(value)
        case {"enum": values}:
            return ", ".join(map(str, values))
        case {"anyOf": [*some]} | {"oneOf": [*some]}:
            return " or ".join(_kind(each) for each in some)
        case {"type": "array", "items": inner}:
            return f"a list of {_kind(inner)}"
        case {"type": "object", "additionalProperties": dict(inner)}:
            return f"by name: {_kind(inner)}"
    limits = [f"{word} {one[key]}" for key, word in (("minimum", "from"), ("exclusiveMinimum", "above"), ("maximum", "to")) if key in one]
    limits += [f"like `{one['pattern']}`"] if "pattern" in one else []
    return " ".join([str(one.get("type", "anything")).replace("null", "nothing"), *limits])


if __name__ == "__main__":
    make(Path(sys.argv[1]))
