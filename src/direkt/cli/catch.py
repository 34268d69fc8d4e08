"""direkt catch: receive a rehearsal push, measure and judge it."""

from __future__ import annotations

import asyncio
import contextlib
import errno
import logging
import secrets
import signal
import socket
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from rich.console import Group
from rich.live import Live
from rich.markup import escape
from rich.text import Text

from direkt.cli import common

if TYPE_CHECKING:
    from direkt.judge import Judgement
    from direkt.measure.meter import Measurement

_DEFAULT_APP = "rehearsal"


@click.command()
@click.option("--sheet", "sheet_name", metavar="NAME|FILE", help="Judge against this sheet.")
@click.option(
    "--feed", "feed_name", metavar="FEED", help="Judge against this feed's sheet, its device's settings and its key."
)
@click.option(
    "--for",
    "seconds",
    type=common.Seconds(),
    metavar="TIME",
    help="Stop this long after the push began; otherwise at Ctrl-C.",
)
@click.option(
    "--keep",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.flv",
    help="Record what comes, as received.",
)
@click.option("--overwrite", is_flag=True, help="Let --keep replace a file.")
@click.option(
    "--wait", type=common.Seconds(), default=120.0, show_default="2m", help="How long to wait for the push to begin."
)
@click.option(
    "--port", type=click.IntRange(0, 65535), default=1935, show_default=True, help="Port to listen on; 0: any free one."
)
@click.option("--host", default=None, metavar="ADDRESS", help="Listen on this address of the machine only.")
@click.option("--tls", is_flag=True, help="Receive RTMPS, with a certificate made for this run.")
@click.option("--key", "key_ref", metavar="REF", help="The key to expect, as env:NAME or file:PATH#NAME.")
@click.option("--report", type=click.Path(path_type=Path), metavar="FILE", help="Also write the JSON document to FILE.")
@common.rig_option
@common.json_option
@common.handled
def catch(
    sheet_name: str | None, feed_name: str | None, seconds: float | None, keep: Path | None, overwrite: bool, wait: float,
    port: int, host: str | None, tls: bool, key_ref: str | None, report: Path | None, rig_path: Path | None, as_json: bool,
) -> int:  # fmt: skip
    """Receive a rehearsal push, measure it while it runs, and judge it: asked, set and sent.

    Prints the address that a device must push to, and takes one publisher with the right key. A publisher that
    goes and comes back is shown as a gap.
    """
    session = _Session(seconds, wait, as_json, tls)
    if sheet_name is not None and feed_name is not None:
        raise common.Failure("--sheet and --feed exclude each other: a feed has its sheet", common.USE)
    if feed_name is not None and key_ref is not None:
        raise common.Failure("--key and --feed exclude each other: a feed has its key", common.USE)
    app, key, shown_key = session.prepare(sheet_name, feed_name, key_ref, rig_path)
    recorder = _open_recorder(keep, overwrite)
    try:
        code = asyncio.run(session.run(app, key, shown_key, host, port, recorder))
        if session.nothing_came and keep is not None:
            keep.unlink(missing_ok=True)
        return session.finish(code, keep, report)
    finally:
        session.close()


def _open_recorder(path: Path | None, overwrite: bool) -> Any:
    from direkt.net.rehearsal import Recorder

    if path is None:
        return None
    try:
        return Recorder(path, overwrite=overwrite)
    except FileExistsError:
        raise common.Failure(f"{path}: is there already; choose another name, or add --overwrite", common.USE) from None
    except OSError as error:
        raise common.Failure(
            f"{path}: cannot be written: {(error.strerror or str(error)).lower()}", common.USE
        ) from None


class _Session:
    """One run of catch."""

    def __init__(self, seconds: float | None, wait: float, as_json: bool, tls: bool) -> None:
        from direkt.net.rehearsal import Rehearsal

        self.seconds, self.wait, self.as_json, self.tls = seconds, wait, as_json, tls
        self.rehearsal = Rehearsal()
        self.sheet: Any = None
        self.rig: Any = None
        self.feed: str | None = None
        self.driver: Any = None
        self.set: dict[str, Any] | None = None
        self.slot: Any = None
        self.source_rate: float | None = None  # fps at the device's input
        self.addresses: list[str] = []
        self.nothing_came = False
        self.measurement: Measurement | None = None
        self.out = common.console(err=as_json)

    # Before

    def prepare(
        self, sheet_name: str | None, feed_name: str | None, key_ref: str | None, rig_path: Path | None
    ) -> tuple[str, Any, str]:
        """Sheet, device state, application and key; the key's text as it may be shown."""
        from direkt.sheet import address, library, secret

        if feed_name is not None:
            self.rig = common.load_rig(rig_path)
            self.feed = self.rig.feed_name(feed_name)
            _, _, destination = self.rig.feed(self.feed)
            self.sheet = self.rig.sheet(destination)
            key = self.rig.key(destination, common.sources())
            self.driver = common.open_device(self.rig, self.rig.file.feeds[self.feed].device)
            self._read_device()
            return address.parse(destination.server).app, key, f"the key of feed {self.feed}, {key}"
        if sheet_name is not None:
            self.sheet = library.load(sheet_name)
        if key_ref is not None:
            key = secret.resolve(secret.parse_ref(key_ref), common.sources(), Path.cwd())
            return _DEFAULT_APP, key, str(key)
        # made for this run and worth nothing afterwards, so it may be shown: a person has to type it
        throwaway = "rehearsal-" + secrets.token_hex(4)
        return _DEFAULT_APP, secret.Secret(throwaway), f"{throwaway} (made up for this run, worth nothing afterwards)"

    def _read_device(self) -> None:
        """What the device says it is set to; a device that does not answer leaves that column empty."""
        from direkt.device.model import DeviceError

        feed = self.rig.file.feeds[self.feed]
        try:
            state = self.driver.read()
        except DeviceError as error:
            common.note(f"! {error}")
            return
        channel = state.channels.get(feed.channel)
        self.set = channel.full if channel is not None else None
        self.slot = state.slots.get(feed.slot)
        self.source_rate = state.input.frame_rate if state.input is not None else None

    def close(self) -> None:
        """Lets go of the device."""
        if self.driver is not None:
            self.driver.close()

    # During

    async def run(self, app: str, key: Any, shown_key: str, host: str | None, port: int, recorder: Any) -> int:
        from direkt.net.receiver import Receiver
        from direkt.net.rehearsal import Rehearsal

        self.rehearsal = Rehearsal(recorder, "rtmps" if self.tls else "rtmp")
        receiver = Receiver(app, key, self.rehearsal.take)
        try:
            certificate = None
            if self.tls:
                from direkt.net import certificates

                logging.getLogger("asyncio").setLevel(logging.CRITICAL)  # a failed TLS handshake is no news to a person
                certificate = certificates.make([*_own_addresses(host), "localhost"])
            port = await receiver.start(host, port, certificate.context if certificate else None)
        except OSError as error:
            reason = (
                "it is in use: is another catch running? Choose another with --port"
                if error.errno == errno.EADDRINUSE
                else (error.strerror or str(error)).lower()
            )
            raise common.Failure(f"port {port} cannot be opened: {reason}", common.DEVICE) from None
        self._announce(app, shown_key, host, port)
        if certificate is not None:
            self.out.print(f"[bold]certificate[/]  self-made, SHA-256 {certificate.fingerprint}")
        stop = asyncio.Event()
        loop = asyncio.get_running_loop()
        for number in (signal.SIGINT, signal.SIGTERM):
            with contextlib.suppress(NotImplementedError):
                loop.add_signal_handler(number, stop.set)
        try:
            return await self._watch(stop)
        finally:
            self.measurement = self.rehearsal.finish()
            await receiver.stop()

    def _announce(self, app: str, shown_key: str, host: str | None, port: int) -> None:
        scheme, usual = ("rtmps", 443) if self.tls else ("rtmp", 1935)
        number = "" if port == usual else f":{port}"
        self.addresses = [f"{scheme}://{name}{number}/{app}" for name in _own_addresses(host)]
        self.out.print("[bold]push to[/]  " + escape("  or  ".join(self.addresses)))
        self.out.print(f"[bold]key[/]      {escape(shown_key)}")
        if self.feed is not None:
            self.out.print(
                f"[dim]from a second terminal: direkt push on {escape(self.feed)} --rehearse {escape(self.addresses[-1])}[/]"
            )

    async def _watch(self, stop: asyncio.Event) -> int:
        begin = time.monotonic()
        live = Live(console=self.out, auto_refresh=False, transient=True) if self.out.is_terminal else None
        told = -1
        with live or contextlib.nullcontext():
            while not stop.is_set():
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(0.25):
                        await stop.wait()
                r = self.rehearsal
                if r.first is None and time.monotonic() - begin > self.wait:
                    self.nothing_came = True
                    return common.DEVICE
                if self.seconds is not None and r.first is not None and r.elapsed >= self.seconds:
                    return 0
                if live is not None:
                    live.update(self._view(time.monotonic() - begin), refresh=True)
                elif r.first is not None and int(r.elapsed) // 5 != told:
                    told = int(r.elapsed) // 5
                    common.note(self._line())
        self.nothing_came = self.rehearsal.first is None
        # without --for, Ctrl-C is how a catch is meant to end
        return 0 if self.seconds is None and not self.nothing_came else common.INTERRUPTED

    def _judge(self, measurement: Measurement) -> Judgement:
        from direkt.judge import judge_sent

        return judge_sent(self.sheet, measurement.values, self.set, measurement.notes, self.source_rate)

    def _line(self) -> str:
        r = self.rehearsal
        v = r.meter.snapshot().values
        parts = [f"{common.clock(r.elapsed)}  {'receiving' if r.peer else 'nobody pushes'}"]
        if "stream.pace" in v:
            parts.append(f"pace {v['stream.pace']}")
        for name in (
            "video.size",
            "video.frame_rate",
            "video.bitrate.mean",
            "video.keyframe_interval.max",
            "audio.codec",
            "audio.bitrate.mean",
        ):
            if name in v:
                label = {"video.keyframe_interval.max": "keyframes at most "}.get(name, "")
                parts.append(label + common.show(name, v[name]))
        if v.get("audio.present") == "no":
            parts.append("no audio")
        return ", ".join(parts)

    def _view(self, waited: float) -> Any:
        """The live view."""
        r = self.rehearsal
        if r.first is None:
            waiting: list[Any] = [
                Text.from_markup(
                    f"[yellow]waiting for the push[/]  {common.clock(waited)} of {common.clock(self.wait)}"
                )
            ]
            waiting += [
                Text.from_markup(f"[yellow]! turned away[/]  {escape(t.peer)}: {escape(t.reason)}")
                for t in r.turned_away[-5:]
            ]
            return Group(*waiting)
        measurement = r.meter.snapshot()
        v = measurement.values
        until = f" of {common.clock(self.seconds)}" if self.seconds else ""
        where = f"[green]● receiving[/] from {escape(r.peer)}" if r.peer else "[bold red]○ nobody pushes[/]"
        head = Text.from_markup(f"[bold]{common.clock(r.elapsed)}[/]{until}  {where}")
        facts = common.table("", "now", "over all")
        video, audio = r.meter.video, r.meter.audio
        now_video = f"{video.bitrate.recent():.0f} kbit/s" if r.peer else "–"
        now_audio = f"{audio.bitrate.recent():.0f} kbit/s" if r.peer and audio.clock.count else "–"
        facts.add_row("pace", "", common.show("stream.pace", v.get("stream.pace")))
        facts.add_row("video bitrate", now_video, common.show("video.bitrate.mean", v.get("video.bitrate.mean")))
        facts.add_row(
            "picture",
            "",
            f"{common.show('video.size', v.get('video.size'))}, {common.show('video.frame_rate', v.get('video.frame_rate'))}",
        )
        facts.add_row("keyframes", "", self._keyframes(measurement))
        audio_words = (
            "no audio"
            if v.get("audio.present") == "no"
            else ", ".join(
                common.show(n, v[n]) for n in ("audio.codec", "audio.sample_rate", "audio.bitrate.mean") if n in v
            )
        )
        if v.get("audio.silent") == "yes":
            audio_words += ", [yellow]silent[/]"
        facts.add_row("audio", now_audio, audio_words)
        if r.gaps:
            facts.add_row("gaps", "", f"[yellow]{len(r.gaps)}[/], the last at {common.clock(r.gaps[-1].at)}")
        judgement = self._judge(measurement)
        found = [f for f in judgement.findings if f.verdict.value in ("fail", "advise")]
        lines: list[Any] = []
        if found:
            off = common.table("verdict", "parameter", "asked", *(["set"] if self.set else []), "sent")
            for f in found[:12]:
                sent = common.show(f.parameter, f.sent, absent="not seen")
                off.add_row(
                    common.verdict_text(f.verdict.value), f.parameter, escape(f.asked.text()) if f.asked else "–",
                    *([common.show(f.parameter, f.set)] if self.set else []),
                    f"at least {sent}" if f.note.startswith("at least") else sent,
                )  # fmt: skip
            lines.append(off)
        if len(found) > 12:
            lines.append(Text(f"and {len(found) - 12} more"))
        if self.sheet is not None and not found:
            lines.append(Text.from_markup(f"[green]✓[/] nothing against {escape(self.sheet.name)} so far"))
        lines += [
            Text.from_markup(f"[yellow]! turned away[/]  {escape(t.peer)}: {escape(t.reason)}")
            for t in r.turned_away[-3:]
        ]
        return Group(head, facts, *lines)

    @staticmethod
    def _keyframes(measurement: Measurement) -> str:
        name = "video.keyframe_interval.max"
        value = measurement.values.get(name)
        if value is None:
            return "not seen"
        at_least = "at least " if measurement.notes.get(name, "").startswith("at least") else ""
        return f"{at_least}{common.show(name, value)} apart"

    # After

    def finish(self, code: int, keep: Path | None, report: Path | None) -> int:
        """Prints the judgement; returns the exit code."""
        r = self.rehearsal
        for t in r.turned_away if self.nothing_came or not self.out.is_terminal else r.turned_away[-5:]:
            self.out.print(f"[yellow]! turned away[/]  {escape(t.peer)}: {escape(t.reason)}")
        if r.turned_away_count > len(r.turned_away):
            self.out.print(f"[yellow]! turned away[/]  {r.turned_away_count - len(r.turned_away)} more connections")
        if self.nothing_came:
            if code == common.INTERRUPTED:
                click.echo("Interrupted: nobody had pushed yet; the port is closed.", err=True)
                return code
            raise common.Failure(
                f"nobody pushed within {self.wait:g} s: does the device's server address read {self.addresses[-1]}, is its push on?",
                common.DEVICE,
            )
        if self.driver is not None and self.set is not None:
            self._read_device()
        assert self.measurement is not None
        measurement = self.measurement
        judgement = self._judge(measurement)
        document = self._document(measurement, judgement, keep)
        common.save_report(report, document)
        if self.as_json:
            common.print_json(document)
        else:
            self._print(measurement, judgement, keep)
        if code == common.INTERRUPTED:
            click.echo("Interrupted: judged what had come; the port is closed, the device was not touched.", err=True)
            return code
        return common.verdict_code(judgement)

    def _document(self, measurement: Measurement, judgement: Judgement, keep: Path | None) -> dict[str, Any]:
        r = self.rehearsal
        return {
            "schema": "direkt.catch/1", "source": self.addresses[-1], "feed": self.feed,
            "sheet": self.sheet.id if self.sheet else None, **common.measurement_json(measurement), "set": self.set,
            "gaps": [{"at": round(g.at, 2), "seconds": None if g.seconds is None else round(g.seconds, 2), "reason": g.reason} for g in r.gaps],
            "turned_away": [{"peer": t.peer, "reason": t.reason} for t in r.turned_away],
            "recording": str(keep) if keep else None,
            "findings": [finding.json() for finding in judgement.findings], "verdict": judgement.verdict.value,
        }  # fmt: skip

    def _print(self, measurement: Measurement, judgement: Judgement, keep: Path | None) -> None:
        out, r = self.out, self.rehearsal
        seconds = measurement.values.get("stream.duration", 0)
        out.print(f"[bold]caught {common.show('stream.duration', seconds)}[/]")
        judged = {finding.parameter for finding in judgement.findings}
        common.print_measured(out, measurement.values, measurement.notes, judged)
        common.print_findings(out, judgement, with_set=self.feed is not None)
        common.print_side_notes(out, measurement)
        for gap in r.gaps:
            length = "the push did not come back" if gap.seconds is None else f"{gap.seconds:.1f} s"
            out.print(f"[yellow]! gap[/]  at {common.clock(gap.at)}: {length} ({escape(gap.reason)})")
        if (
            self.slot is not None
            and self.feed is not None
            and self.slot.channel != self.rig.file.feeds[self.feed].channel
        ):
            out.print(f"[yellow]! channel[/]  slot {self.slot.number} pushes channel {escape(self.slot.channel)}, "
                      f"the feed wants {escape(self.rig.file.feeds[self.feed].channel)}")  # fmt: skip
        if keep is not None:
            out.print(
                f"recorded: {escape(str(keep))}"
                + (f" (until the disk said: {r.record_error})" if r.record_error else "")
            )
        if self.sheet is not None:
            common.print_verdict(out, judgement, self.sheet)


def _own_addresses(host: str | None) -> list[str]:
    """Addresses by which this machine can be reached; loopback last."""
    if host not in (None, "", "0.0.0.0", "::"):
        return [f"[{host}]" if ":" in str(host) else str(host)]
    found = []
    with contextlib.suppress(OSError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
        probe.connect(("192.0.2.1", 9))  # sends nothing: only asks which address would be used
        found.append(probe.getsockname()[0])
    return [name for name in dict.fromkeys(found) if name != "127.0.0.1"] + ["127.0.0.1"]
