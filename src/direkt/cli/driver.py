"""direkt driver: which drivers there are; check, begin and try a driver file."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt import files
from direkt.cli import options, output
from direkt.cli.driver_try import try_
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.cli.documents.gear import DriverLintJson, DriverListJson, DriverRowJson
    from direkt.device.driver_file import DriverFile


@click.group()
def driver() -> None:
    """Look at drivers; write one for a device that Direkt does not know yet."""


@driver.command("list", short_help="Which drivers there are.")
@options.json_option
def list_(as_json: bool) -> ExitCode:
    """List the drivers that ship with Direkt, and what each is for."""
    from direkt.device import library

    files = library.known_files()
    standard: DriverRowJson = {
        "name": library.STANDARD, "title": "any ONVIF camera", "kind": "onvif", "make": "", "model": "", "push": "unknown",
    }  # fmt: skip
    rows: list[DriverRowJson] = [standard]
    for name, f in files.items():
        rows.append(
            {
                "name": name,
                "title": f.title,
                "kind": f.kind,
                "make": f.fits.make,
                "model": f.fits.model,
                "push": _push(f),
            }
        )
    document: DriverListJson = {"schema": "direkt.driver-list/1", "drivers": rows}
    if as_json:
        output.print_json(document)
        return ExitCode.GOOD
    made = output.table("driver", "for", "speaks", "can push")
    for row in document["drivers"]:
        made.add_row(escape(row["name"]), escape(row["title"]), escape(row["kind"]), escape(row["push"]))
    output.print_table(output.console(), made)
    output.note("For another device: direkt driver new, and docs/drivers.md")
    return ExitCode.GOOD


def _push(file: DriverFile) -> str:
    if file.kind == "hand":
        return "by hand"
    if file.push.never:
        return "no"
    if file.push.from_firmware:
        return f"from firmware {file.push.from_firmware}"
    return "yes" if file.slots is not None else "unknown"


@driver.command(short_help="Check a driver file.")
@click.argument("file", type=click.Path(path_type=Path))
@options.json_option
def lint(file: Path, as_json: bool) -> ExitCode:
    """Check driver FILE: every mistake with its line, and what the driver will not be able to do.

    Exits with 2 when it cannot be used, with 1 when something is likely to be missing.
    """
    from direkt.device import library
    from direkt.device.by_hand import Driver as ByHand
    from direkt.device.state import Capability

    found = library.load_described(str(file), Path.cwd())
    opened = library.open_driver(str(file), "device", "http://192.0.2.1", None, Path.cwd())
    able = sorted(capability.value for capability in opened.capabilities)
    unable = sorted(capability.value for capability in Capability if capability not in opened.capabilities)
    opened.close()
    by_hand = isinstance(opened, ByHand)
    title = found.title if found is not None else file.stem
    advice = _advice(found) if found is not None and not by_hand else []  # nothing has to find it, and nothing can
    if as_json:
        document: DriverLintJson = {
            "schema": "direkt.driver-lint/1", "file": str(file), "title": title, "can": ["read it", *able], "cannot": unable, "advice": advice,
        }  # fmt: skip
        output.print_json(document)
    else:
        out = output.console()
        out.print(f"[green]✓[/] {escape(file)}: {escape(title)}")
        if by_hand:
            out.print("  it is set by hand: direkt card makes its setup card, catch proves what was typed")
        else:
            out.print(f"  can     {escape(', '.join(['read it', *able]))}")
            out.print(f"  cannot  {escape(', '.join(unable) or 'nothing is left out')}")
        for words in advice:
            out.print(f"[yellow]![/] {escape(words)}")
    return ExitCode.FAILS if advice else ExitCode.GOOD


def _advice(file: DriverFile) -> list[str]:
    """What is likely to be missing."""
    out = []
    known = (
        set(file.settings)
        | {name for mode in file.modes for more in mode.words.values() for name in more}
        | set(file.limits)
    )
    if file.kind == "http":
        important = (
            "video.codec",
            "video.size",
            "video.frame_rate",
            "video.bitrate.mean",
            "video.keyframe_interval.median",
            "audio.present",
        )
        out += [f"{name} is not described: match cannot look after it" for name in important if name not in known]
    if "write" in file.requests and "limits" not in file.requests:
        bare = [name for name, entry in file.settings.items() if name not in file.limits and entry.limit_at is None]
        if bare:
            out.append(
                f"no limits of {', '.join(bare)}: match takes them as fixed; give them under 'limits', or 'limit_at'"
            )
    if file.slots is not None and not {"push_on", "push_off"} <= set(file.requests):
        out.append("there are push slots and no requests push_on and push_off: a person starts and stops the push")
    if "write" in file.requests and "restart" not in file.requests and file.facts.restart_needed is not None:
        out.append("the device reports that it needs a restart, and no request 'restart' says how")
    if not file.fits.model:
        out.append("fits.model is empty: find cannot recognise such a device")
    return out


@driver.command(short_help="Begin a driver file.")
@click.argument("shape", type=click.Choice(["json", "xml", "lines", "onvif", "hand"]))
@click.option(
    "-o",
    "--output",
    "target",
    type=click.Path(path_type=Path, dir_okay=False),
    required=True,
    metavar="FILE",
    help="Where it goes (.yaml).",
)
@click.option("--title", default="A new device", show_default=True, help="What the device is called.")
def new(shape: str, target: Path, title: str) -> ExitCode:
    """Write a driver file to begin with, for an interface of this SHAPE."""
    from direkt.device import skeleton

    if target.suffix not in (".yaml", ".yml"):
        raise UnusableInput(f"{target}: the name ends in .yaml")
    if not title.isprintable() or any(c in title for c in ":#{}[]\"'"):
        raise UnusableInput(f"{title!r}: the title is plain words")
    known = next(one for one in skeleton.SHAPES if one == shape)
    try:
        files.create(target, skeleton.make(known, title, target.name))
    except FileExistsError:
        raise UnusableInput(f"{target} already exists; choose another name") from None
    except OSError as error:
        raise UnusableInput(f"{target}: cannot be written: {os_words(error)}") from None
    output.console().print(f"written: {escape(target)}")
    following = "name it in the rig, and look at its card: direkt card FEED" if shape == "hand" else f"direkt driver try {target} http://ADDRESS"
    output.note(f"Fill it in, then: direkt driver lint {target}; {following}")
    return ExitCode.GOOD


driver.add_command(try_)
