"""direkt write: set a feed's device as its sheet asks, and read it back."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Any

import click
from rich.markup import escape

from direkt.cli import common
from direkt.cli.match import make_plan, print_plan

SAVED_FOLDER = "saved-settings"


@click.command()
@click.argument("feed", required=False)
@click.option("--yes", is_flag=True, help="Write without asking.")
@click.option("--wait", type=common.Seconds(), default=60.0, show_default="60s", help="How long a restart may take.")
@click.option("--restore", type=click.Path(path_type=Path), metavar="FILE", help="Write back settings saved earlier.")
@common.rig_option
@common.json_option
@common.handled
def write(feed: str | None, yes: bool, wait: float, restore: Path | None, rig_path: Path | None, as_json: bool) -> int:
    """Set FEED's device as its destination asks: settings, server address and key.

    Shows the changes and asks. Saves the old settings to a file first, restarts the device when it needs it,
    reads everything back, and reports each value that did not stick.
    """
    rig = common.load_rig(rig_path)
    name = rig.feed_name(feed)
    device = rig.file.feeds[name].device
    driver = common.open_device(rig, device)
    job = _Job(rig, name, driver, wait, as_json)
    try:
        return job.run(yes, restore)
    except KeyboardInterrupt:
        click.echo(f"\nInterrupted: {job.stage}", err=True)
        return common.INTERRUPTED
    finally:
        driver.close()


class _Job:
    """One write. ``stage`` always says what state the device is in."""

    def __init__(self, rig: Any, name: str, driver: Any, wait: float, as_json: bool) -> None:
        self.rig, self.name, self.driver, self.wait, self.as_json = rig, name, driver, wait, as_json
        self.feed, _, self.destination = rig.feed(name)
        self.device = self.feed.device
        self.stage = f"{self.device} was not changed."
        self.saved: Path | None = None
        self.restarted = False

    def run(self, yes: bool, restore: Path | None) -> int:
        out = common.console(err=self.as_json)
        key = self.rig.key(self.destination, common.sources())
        common.remind(self.rig, self.destination)
        state, channel, sheet, plan = make_plan(self.rig, self.name, self.driver)
        slot = state.slots.get(self.feed.slot)
        if slot is None:
            raise common.Failure(f"{self.device} has no push slot {self.feed.slot}", common.USE)
        if restore is not None:
            values = _load_saved(restore, self.device, channel)
            plan = _restoring(channel, values, restore)
        wanted = plan.values()
        out.print(
            f"[bold]{escape(self.name)}[/]  {escape(self.device)}, channel {escape(channel.name)}: {len(wanted)} changes"
        )
        print_plan(out, plan, only_changes=True)
        out.print(f"push slot {slot.number}: {escape(slot.server or 'empty')} -> [bold]{escape(self.destination.server)}[/], "
                  f"key {escape(str(key))}, channel {escape(self.feed.channel)}")  # fmt: skip
        if slot.state != "stopped":
            out.print("[yellow]! the device is pushing[/]  a restart drops the push")
        if not yes and not self._agreed():
            out.print(f"{escape(self.device)} was not changed.")
            return common.INTERRUPTED
        self._save(state, channel)
        self._write(channel, wanted, state.restart_needed)
        self.stage = f"the settings of {self.device} are written, its push slot is not; old settings: {self.saved}"
        self.driver.write_slot(self.feed.slot, self.feed.channel, self.destination.server, key)
        self.stage = (
            f"everything is written to {self.device}, but was not read back; check with: direkt read {self.device}"
        )
        return self._read_back(plan, wanted, key, sheet, out)

    def _agreed(self) -> bool:
        import sys

        if not sys.stdin.isatty():
            raise common.Failure("nobody is there to agree: add --yes to write without asking", common.USE)
        return click.confirm("Write this to the device?", default=False, err=True)

    def _save(self, state: Any, channel: Any) -> None:
        folder = self.rig.folder / SAVED_FOLDER
        stamp = time.strftime("%Y%m%d-%H%M%S")
        slot = state.slots[self.feed.slot]
        document = {
            "schema": "direkt.saved/1", "device": self.device, "model": state.model, "firmware": state.firmware,
            "channel": channel.name, "set": channel.values, "slot": {"number": slot.number, "channel": slot.channel,
            "server": slot.server, "key_length": slot.key_length},
        }  # fmt: skip
        try:
            folder.mkdir(exist_ok=True)
            path = folder / f"{self.device}-{channel.name}-{stamp}.json"
            with path.open("x", encoding="utf-8") as file:
                json.dump(document, file, indent=2)
        except FileExistsError:
            raise common.Failure("two writes within one second; try again", common.USE) from None
        except OSError as error:
            raise common.Failure(
                f"{folder}: old settings cannot be saved, so nothing was changed: {error.strerror}", common.USE
            ) from None
        self.saved = path
        common.note(f"old settings saved: {path}")

    def _write(self, channel: Any, wanted: dict[str, Any], restart_needed: bool) -> None:
        if wanted:
            self.stage = f"some settings may have been written to {self.device}; old settings: {self.saved}"
            self.driver.write(channel, wanted)
            restart_needed = self.driver.read().restart_needed
        if not restart_needed:
            return
        self.stage = (
            f"{self.device} has the new settings but not in force: run direkt write {self.name} again; "
            f"old settings: {self.saved}"
        )
        common.note(f"restarting {self.device} ...")
        begin = time.monotonic()
        self.driver.restart(lambda _: None, self.wait)
        self.restarted = True
        common.note(f"{self.device} is back after {time.monotonic() - begin:.1f} s")

    def _read_back(self, plan: Any, wanted: dict[str, Any], key: Any, sheet: Any, out: Any) -> int:
        from direkt import parameters

        state = self.driver.read()
        now = state.channels[self.feed.channel].values
        lost = [
            {"parameter": name, "wanted": value, "set": now.get(name)} for name, value in wanted.items()
            if now.get(name) is None or not parameters.same(name, now[name], value)
        ]  # fmt: skip
        slot = state.slots[self.feed.slot]
        for what, want, have in (
            ("push slot server", self.destination.server, slot.server), ("push slot channel", self.feed.channel, slot.channel),
            ("push slot key length", len(key), slot.key_length),
        ):  # fmt: skip
            if want != have:
                lost.append({"parameter": what, "wanted": want, "set": have})
        if state.restart_needed:
            lost.append({"parameter": "restart", "wanted": "done", "set": "still needed"})
        for item in lost:
            name = str(item["parameter"])
            out.print(f"[bold red]✗ did not stick[/]  {escape(name)}: wrote {common.show(name, item['wanted'])}, "
                      f"reads {common.show(name, item['set'])}")  # fmt: skip
        if not lost:
            out.print(f"[green]✓ {len(wanted)} changes and the push slot read back as written[/]")
        for u in plan.unmet:
            out.print(f"[bold red]✗ cannot be met[/]  {escape(u.parameter)}: {escape(u.reason)}")
        if self.as_json:
            common.print_json({
                "schema": "direkt.write/1", "feed": self.name, "device": self.device, "sheet": sheet.id,
                "written": wanted, "restarted": self.restarted, "saved": str(self.saved), "did_not_stick": lost,
                "unmet": [{"parameter": u.parameter, "reason": u.reason} for u in plan.unmet],
                "set": now,
            })  # fmt: skip
        elif not lost:
            common.note(f"The push is off. Rehearse before going live: direkt catch --feed {self.name}")
        return 1 if lost or plan.unmet else 0


def _load_saved(path: Path, device: str, channel: Any) -> dict[str, Any]:
    """The settings in a file that an earlier write left."""
    from direkt import parameters

    try:
        document = json.loads(path.read_text("utf-8"))
        if document["schema"] != "direkt.saved/1":
            raise ValueError
        values = {name: parameters.clean(name, value) for name, value in document["set"].items()}
        of_device, of_channel = document["device"], document["channel"]
    except OSError as error:
        raise common.Failure(f"{path}: cannot be read: {(error.strerror or str(error)).lower()}", common.USE) from None
    except (ValueError, KeyError, TypeError, AttributeError):
        raise common.Failure(f"{path}: not saved settings; those lie in {SAVED_FOLDER}/", common.USE) from None
    if (of_device, of_channel) != (device, channel.name):
        raise common.Failure(
            f"{path}: settings of {of_device}, channel {of_channel}; this feed uses {device}, {channel.name}",
            common.USE,
        )
    return values


def _restoring(channel: Any, values: dict[str, Any], path: Path) -> Any:
    from direkt import parameters
    from direkt.match.plan import Plan, Step

    names = parameters.in_table_order(values)
    steps = [
        Step(n, channel.values.get(n), values[n], "", f"as saved in {path.name}") for n in names if n in channel.limits
    ]
    return Plan(tuple(steps), ())
