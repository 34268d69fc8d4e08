"""direkt card: everything that a person needs to set a feed's device by hand."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt import mask
from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.errors import UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.cli.documents.device_settings import CardJson
    from direkt.report.card import Card
    from direkt.work.feeds import FeedParts

_KINDS = (".html", ".pdf", ".png", ".txt")


@click.command()
@click.argument("feed", required=False)
@click.option(
    "-o",
    "--output",
    "path",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Write it to card.html, .pdf, .png or .txt.",
)
@click.option(
    "--file",
    "file",
    is_flag=True,
    help="Write the settings file that the device reads, where its driver describes one.",
)
@click.option("--reveal", is_flag=True, help="Print the stream key on it, and the picture code that holds it.")
@click.option("--overwrite", is_flag=True, help="Let it replace a file.")
@options.rig_option
@options.json_option
def card(
    feed: str | None, path: Path | None, file: bool, reveal: bool, overwrite: bool, rig_path: Path | None, as_json: bool
) -> ExitCode:
    """Make the setup card of FEED: what to enter, in the device's own words and the order of its menus.

    For gear that no program can reach, or should not change. Address and key are broken into groups for typing, with the
    characters marked that people take for each other. Fits a sheet of A4, or a phone.
    """
    from direkt.work import feeds
    from direkt.work.device import card as work

    if file and ((path is not None and path.suffix.lower() in _KINDS) or as_json or reveal):
        raise UnusableInput(
            "--file writes the device's settings file, with the key in it: leave out --json and --reveal, and name a folder or none with -o"
        )
    if path is not None and not file and path.suffix.lower() not in _KINDS:
        raise UnusableInput(f"{path}: expected a name that ends in {', '.join(_KINDS[:-1])} or {_KINDS[-1]}")
    rig = options.load_rig(rig_path)
    sources = options.sources(rig)
    parts = feeds.look_up(rig, feed, sources)
    try:
        if file:
            return _settings_file(parts, path, overwrite)
        made = work.card(parts, sources, time.strftime("%Y-%m-%d %H:%M"), reveal=reveal)
    finally:
        parts.driver.close()
    options.remind(parts.destination)
    if not made.secret:
        made = mask.everything(made)
    if as_json:
        output.print_json(_document(made), revealed=made.secret)
    if path is not None:
        _write(path, _bytes(made, path.suffix.lower()), made.secret, overwrite)
        output.note(f"card written: {path}" + ("; it holds the key: only you can read the file" if made.secret else ""))
    elif not as_json:
        from direkt.report import card as drawn

        say = output.reveal if made.secret else click.echo
        say(drawn.text(made).removesuffix("\n"))
    if path is not None and path.suffix.lower() in (".pdf", ".png"):
        from direkt.report.card_drawn import lacking

        if letters := lacking(made):
            output.note(f"! no letters here for {letters}: a box stands for each; take .html")
    if made.warnings:
        output.note("! not everything that the sheet requires can be met: the card says what")
    for step in made.steps:
        if step.too_long:
            output.note(f"! {' > '.join(step.path)}: {step.complaint}")
    return ExitCode.FAILS if made.warnings or any(step.too_long for step in made.steps) else ExitCode.GOOD


def _bytes(made: Card, kind: str) -> bytes:
    from direkt.report import card, card_drawn, card_page

    if kind == ".txt":
        return card.text(made).encode()
    if kind == ".html":
        return card_page.page(made).encode()
    return card_drawn.pdf(made) if kind == ".pdf" else card_drawn.png(made)


def _write(path: Path, content: bytes, secret: bool, overwrite: bool) -> None:
    from direkt import files

    if path.exists() and not overwrite:
        raise UnusableInput(f"{path} already exists; choose another name, or add --overwrite")
    try:
        files.replace_bytes(path, content, 0o600 if secret else 0o644)
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be written: {os_words(error)}") from None


def _settings_file(feed: FeedParts, path: Path | None, overwrite: bool) -> ExitCode:
    from direkt.work.device import card as work

    made = work.settings_file(feed, options.sources(feed.rig))
    target = (path or Path()) / made.name if path is None or path.is_dir() else path
    _write(target, made.content.encode(), True, overwrite)
    output.note(f"settings file written: {target}; it holds the key: only you can read the file")
    if made.where:
        output.note(f"It goes to {made.where}.")
    return ExitCode.GOOD


def _document(made: Card) -> CardJson:
    return {
        "schema": "direkt.card/1", "feed": made.feed, "device": made.device, "model": made.model, "destination": made.destination,
        "before": list(made.before),
        "steps": [
            {"path": list(s.path), "value": s.value or None, "meaning": s.meaning or None, "kind": s.kind, "too_long": s.too_long}
            for s in made.steps
        ],
        "facts": {fact.name: fact.value for fact in made.facts}, "after": list(made.after), "warnings": list(made.warnings),
        "code": made.code or None,
    }  # fmt: skip
