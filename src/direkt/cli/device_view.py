"""direkt device snapshot and preset: what cameras see."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.opened import opened
from direkt.cli.output import escape
from direkt.errors import DirektError, UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.cli.documents.gear import PresetJson, SnapshotJson
    from direkt.report.contact import Shot

# Pictures


@click.command(short_help="What the cameras see.")
@click.argument("name", required=False)
@click.option("--all", "every", is_flag=True, help="Of every device: one sheet of pictures.")
@click.option(
    "-o",
    "--output",
    "target",
    type=click.Path(path_type=Path, dir_okay=False),
    required=True,
    metavar="FILE",
    help="Where the picture goes (.jpg or .png).",
)
@click.option("--channel", default="main", show_default=True, help="Of this channel.")
@click.option("--overwrite", is_flag=True, help="Replace FILE.")
@options.rig_option
@options.json_option
def snapshot(
    name: str | None, every: bool, target: Path, channel: str, overwrite: bool, rig_path: Path | None, as_json: bool
) -> ExitCode:  # fmt: skip
    """Take a picture with device NAME, or with all of them onto one sheet, and say which are black or frozen.

    One device's picture is kept as the device made it. Exits with 1 when one of the pictures is not as it should be.
    """
    from direkt.described.errors import DeviceError
    from direkt.report import contact
    from direkt.work.device import manage

    if target.suffix.lower() not in (".jpg", ".jpeg", ".png"):
        raise UnusableInput(f"{target}: the name ends in .jpg or .png")
    if target.exists() and not overwrite:
        raise UnusableInput(f"{target} already exists; choose another name, or add --overwrite")
    rig = options.load_rig(rig_path)
    names = rig.every("device") if every else [rig.device_name(name)]
    sources = options.sources(rig)

    def shoot(one: str) -> Shot:
        try:
            driver = rig.driver(one, sources)
        except DirektError as error:
            return contact.Shot(one, trouble=str(error))
        try:
            first = driver.snapshot(channel)
            stamp = time.strftime("%H:%M:%S")
            time.sleep(1.0)
            return contact.Shot(one, first, driver.snapshot(channel), stamp)
        except DeviceError as error:
            return contact.Shot(one, trouble=error.what)
        except DirektError as error:
            return contact.Shot(one, trouble=str(error))
        finally:
            driver.close()

    shots = manage.for_all(names, shoot)
    remarks = {shot.name: _remark(shot) for shot in shots}
    if not every and shots[0].trouble:
        raise DeviceError(shots[0].name, shots[0].trouble)
    _write_picture(target, shots, every, rig.file.name)
    if as_json:
        document: SnapshotJson = {
            "schema": "direkt.device-snapshot/1", "file": str(target),
            "devices": [{"device": s.name, "size": s.size or None, "time": s.time or None, "remark": remarks[s.name] or None} for s in shots],
        }  # fmt: skip
        output.print_json(document)
    else:
        out = output.console()
        for shot in shots:
            mark = "[bold red]✗[/]" if remarks[shot.name] else "[green]✓[/]"
            out.print(
                f"{mark} {escape(shot.name)}  {escape('  '.join(filter(None, (shot.size, shot.time, remarks[shot.name]))))}"
            )
        out.print(f"written: {escape(target)}")
    return ExitCode.FAILS if any(remarks.values()) else ExitCode.GOOD


def _remark(shot: Shot) -> str:
    try:
        return shot.remark
    except UnusableInput as error:
        return str(error)


def _write_picture(target: Path, shots: list[Shot], every: bool, title: str) -> None:
    import io

    from direkt import files
    from direkt.report import contact

    is_jpeg = target.suffix.lower() != ".png"
    if not every and is_jpeg:
        content = shots[0].picture
    else:
        kept = [
            shot if not _unreadable(shot) else contact.Shot(shot.name, time=shot.time, trouble=_remark(shot))
            for shot in shots
        ]
        page = (
            contact.contact_sheet(kept, f"{title}, {time.strftime('%Y-%m-%d %H:%M')}")
            if every
            else contact.opened(shots[0].picture)
        )
        made = io.BytesIO()
        page.save(made, "JPEG" if is_jpeg else "PNG", quality=90)
        content = made.getvalue()
    try:
        files.replace_bytes(target, content, 0o644)
    except OSError as error:
        raise UnusableInput(f"{target}: cannot be written: {os_words(error)}") from None


def _unreadable(shot: Shot) -> bool:
    try:
        return not shot.size and not shot.trouble
    except UnusableInput:
        return True


# Positions


@click.command(short_help="Recall and store positions.")
@click.argument("name")
@click.argument("action", type=click.Choice(["list", "go", "store"]))
@click.argument("position", required=False)
@options.rig_option
@options.json_option
def preset(name: str, action: str, position: str | None, rig_path: Path | None, as_json: bool) -> ExitCode:
    """List the positions of device NAME, go to POSITION, or store where it looks now as POSITION."""
    from direkt.device.state import Capability, need

    _, chosen, driver = opened(rig_path, name)
    try:
        need(driver, Capability.PRESETS)
        known = driver.presets()
        if action != "list":
            if position is None:
                raise UnusableInput(
                    f"name the position; {chosen} has {', '.join(p.name or p.token for p in known) or 'none'}"
                )
            found = [p for p in known if position in (p.name, p.token)] or [
                p for p in known if p.name.lower() == position.lower()
            ]
            if len(found) > 1:
                raise UnusableInput(
                    f"{chosen} has {len(found)} positions of that name: use one of {', '.join(p.token for p in found)}"
                )
            if action == "store":
                driver.store(position, found[0] if found else None)
                known = driver.presets()
            elif not found:
                raise UnusableInput(
                    f"{chosen} has no position {position!r}; it has {', '.join(p.name or p.token for p in known) or 'none'}"
                )
            else:
                driver.go_to(found[0])
    finally:
        driver.close()
    if as_json:
        document: PresetJson = {
            "schema": "direkt.device-preset/1", "device": chosen, "action": action, "position": position,
            "presets": list(known),
        }  # fmt: skip
        output.print_json(document)
        return ExitCode.GOOD
    out = output.console()
    if action == "list":
        for one in known:
            out.print(f"{escape(one.name or '(no name)')}  [dim]{escape(one.token)}[/]")
        if not known:
            out.print(f"{escape(chosen)} has no positions")
    else:
        done = "goes to" if action == "go" else "has stored"
        out.print(f"{escape(chosen)} {done} {escape(position)}")
        if action == "go":
            output.note(f"Look whether it got there: direkt device snapshot {chosen} -o {chosen}.jpg")
    return ExitCode.GOOD
