"""direkt explain: a word of the trade in plain language; and the sums."""

from __future__ import annotations

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput


@click.command(context_settings={"ignore_unknown_options": True})  # -23 LUFS
@click.argument("term", nargs=-1)
@click.option("--calc", is_flag=True, help="Do the sums for the figures that the other options give.")
@click.option("--size", metavar="WxH", help="calc: picture size, such as 1920x1080.")
@click.option("--fps", type=options.RealNumber(min=0, min_open=True), help="calc: frame rate.")
@click.option("--kbit", type=options.RealNumber(min=0, min_open=True), help="calc: bitrate in kbit/s.")
@click.option(
    "--keyframe", type=options.RealNumber(min=0, min_open=True), metavar="SECONDS", help="calc: keyframe interval."
)
@click.option(
    "--hours",
    type=options.RealNumber(min=0, min_open=True),
    default=1.0,
    show_default=True,
    help="calc: length of the event.",
)
@click.option("--level", help="calc: an H.264 level, such as 4.1, to hold the figures against.")
@options.json_option
def explain(
    term: tuple[str, ...], calc: bool, size: str | None, fps: float | None, kbit: float | None, keyframe: float | None,
    hours: float, level: str | None, as_json: bool,
) -> ExitCode:  # fmt: skip
    """Explain TERM: a parameter, a choice, or a word on a device's page. With --calc: do the sums.

    \b
    direkt explain BP
    direkt explain keyframe interval
    direkt explain --calc --size 1920x1080 --fps 50 --kbit 6900 --keyframe 2 --hours 5
    """
    if calc:
        return _calc(size, fps, kbit, keyframe, hours, level, as_json)
    from direkt import glossary

    if not term:
        words = [entry.term for entry in glossary.entries()]
        if as_json:
            output.print_json({"schema": "direkt.explain/1", "terms": words})
        else:
            output.console().print(escape(", ".join(words)))
        return ExitCode.GOOD
    word = " ".join(term)
    answer = glossary.find(word)
    found = answer.entries
    if not found and not answer.sums:
        guesses = ", ".join(entry.term for entry in answer.guesses)
        hint = (
            f"; a guess: {guesses}? Then: direkt explain {answer.guesses[0].term}"
            if guesses
            else "; direkt explain lists all"
        )
        raise UnusableInput(f"nothing is known of {word!r}{hint}")
    if as_json:
        output.print_json({"schema": "direkt.explain/1", "asked": word, "mode": answer.mode or None, "entries": found,
                           "sums": list(answer.sums)})
        return ExitCode.GOOD
    from rich.padding import Padding

    out = output.console()
    if answer.mode:
        out.print(f"[yellow]! {escape(answer.mode)} is no codec but a mode of one[/]: turn it off for a live push, and choose the "
                  "codec by itself\n")  # fmt: skip
    output.print_lines(out, ((f"[bold]{escape(one.of)}[/]", escape(one.text)) for one in answer.sums))
    if answer.sums and found:
        out.print()
    for n, e in enumerate(found):
        also = f"  [dim]({escape(', '.join(e.also))})[/]" if e.also else ""
        out.print(("\n" if n else "") + f"[bold]{escape(e.term)}[/]{also}")
        out.print(Padding(escape(e.what), (0, 0, 0, 2), expand=False))
        said = (("choose", e.choose), ("mind", e.mixed_up), ("measured", e.measured), ("next", e.next))
        output.print_lines(out, ((f"[bold]{label}[/]", escape(text)) for label, text in said if text), indent=2)
    return ExitCode.GOOD


def _calc(
    size: str | None, fps: float | None, kbit: float | None, keyframe: float | None, hours: float, level: str | None, as_json: bool
) -> ExitCode:  # fmt: skip
    from direkt import glossary, glossary_sums, parameters

    picture = parameters.size_of(parameters.clean("video.size", size)) if size else None
    wanted = str(parameters.clean("video.level", level)) if level else None
    results: dict[str, object] = {}
    lines: list[tuple[str, str]] = []
    if keyframe and fps:
        frames = parameters.keyframe_frames(keyframe, fps)
        results["keyframe_frames"] = frames
        lines.append(("keyframe interval", f"{keyframe:g} s at {fps:g} fps = {frames} frames"))
    if kbit:
        volume = glossary.data_volume(kbit, 1)
        results |= {"gigabytes_per_hour": round(volume, 3), "gigabytes": round(glossary.data_volume(kbit, hours), 3)}
        words = f"{kbit:g} kbit/s = {kbit / 8:g} kB/s = {volume:.2f} GB an hour, {volume * hours:.2f} GB in {hours:g} h"
        lines.append(("data", words))
    code = ExitCode.GOOD
    if picture and fps:
        needed = glossary_sums.level_for(*picture, fps, kbit or 0)
        results["level"] = needed
        lines.append(
            (
                "level",
                f"{size} at {fps:g} fps{f' and {kbit:g} kbit/s' if kbit else ''} needs level {needed or 'beyond all levels'}",
            )
        )
        if wanted:
            name = "video.level"
            good = needed is not None and parameters.ordered(name, needed) <= parameters.ordered(name, wanted)
            results["permitted"] = good
            code = ExitCode.GOOD if good else ExitCode.FAILS
            lines.append(("", f"level {wanted} {'permits' if good else 'does not permit'} it"))
    if picture and fps and kbit:
        value, meaning = glossary_sums.bits_per_pixel(kbit, *picture, fps)
        results |= {"bits_per_pixel": round(value, 4), "meaning": meaning}
        lines.append(("bits per pixel", f"{value:.3f}: {meaning}"))
    if not lines:
        raise UnusableInput("nothing to calculate: give --keyframe and --fps, --kbit, or --size and --fps")
    if as_json:
        output.print_json({"schema": "direkt.explain-calc/1", **results})
    else:
        output.print_lines(output.console(), ((f"[bold]{head}[/]", escape(text)) for head, text in lines))
    return code
