"""Every command on devices, driven on the regatta's gear over real sockets; and the page on drivers, followed to the letter."""

import json
import re
import shutil
import socket
from pathlib import Path
from unittest import mock

import jsonschema

from direkt.cli.sim import free_ports
from direkt.device import library
from direkt.sim import rig as regatta
from direkt.sim import unit
from direkt.sim.camera import firmware_file
from direkt.sim.osier import Osier
from tests.support import Cli, free_port, heard_alone, wait_for_port

ROOT = Path(__file__).resolve().parent.parent.parent
# the documents of commands on devices: each is made in here, and held against its schema
DOCUMENTS = {"find", "device-health", "device-time", "device-firmware", "device-address", "device-claim", "device-snapshot", "device-preset", "match-all",
             "write-all", "drift", "log-changes", "driver-list", "driver-lint", "driver-try"}  # fmt: skip
FITTED: set[str] = set()
SECRETS = ["regatta-demo", *regatta.KEYS.values()]


class Regatta(Cli):
    names = regatta.NAMES
    faults: tuple[str, ...] = ()

    def setUp(self) -> None:
        super().setUp()
        shorter = mock.patch.object(unit, "RESTART_SECONDS", 0.3)
        shorter.start()
        self.addCleanup(shorter.stop)
        ports = dict(zip(regatta.NAMES, free_ports(len(regatta.NAMES)), strict=True))
        regatta.lay_out(self.folder, ports)
        self.gear = {name: regatta.gear(self.folder, name, ports[name]) for name in self.names}
        for text in self.faults:
            name, _, fault = text.partition(":")
            regatta.FAULTS[fault].turn(self.gear[name])
        for one in self.gear.values():
            one.start()
            self.addCleanup(one.stop)
        self.said: list[str] = []

    def environment(self, **more: str) -> dict[str, str]:
        return super().environment(**{"DIREKT_CONFIG": str(self.folder / "config"), **more})

    def direkt(self, *arguments: str, **more):
        result = super().direkt(*arguments, **more)
        self.said += [result.out, result.err]
        if "--json" in arguments and result.out:
            document = result.json
            name = document["schema"].removeprefix("direkt.").removesuffix("/1")
            jsonschema.validate(document, super().direkt("schema", name).json)
            FITTED.add(name)
        self.assertNotIn("Traceback", result.out + result.err)
        return result

    def tearDown(self) -> None:
        for path in self.folder.rglob("*"):
            if path.is_file() and path.name != "secrets.yaml" and "secret" not in path.name:
                self.said.append(path.read_text("latin-1"))
        for text in self.said:
            for secret in SECRETS:
                self.assertNotIn(secret, text)
        super().tearDown()


class Finding(Regatta):
    faults = ("mark-1000:wrong-clock", "start-pontoon:locks")

    @classmethod
    def setUpClass(cls):
        cls.enterClassContext(heard_alone())

    def find(self, *more: str):
        ports = ",".join(str(one.port) for one in self.gear.values())
        result = self.direkt("find", "--wait", "1.3s", "--subnet", "127.0.0.1/32", "--ports", ports, "--json", *more)
        self.assertEqual(result.code, 0, result)
        own = {f"http://127.0.0.1:{one.port}": name for name, one in self.gear.items()}
        return {own[one["address"]]: one for one in result.json["devices"] if one["address"] in own}

    def test_each_is_found_once_and_known(self):
        found = self.find()
        self.assertEqual(set(found), set(regatta.NAMES))
        start, mark = found["start-pontoon"], found["mark-1000"]
        self.assertEqual(
            (start["name"], start["make"], start["model"], start["firmware"]),
            ("Start pontoon", "Lakeside Optics", "Osier 20", "3.2.0"),
        )
        self.assertEqual(
            (start["can_push"], start["rig_name"], start["driver"], start["default_login_works"]),
            (True, "start-pontoon", "osier-20", None),
        )
        self.assertEqual((mark["can_push"], "90 min behind" in " ".join(mark["notes"])), (False, True))
        self.assertEqual((found["finish-tower"]["speaks"], found["umpire-launch"]["can_push"]), (["brindle-b2"], True))
        self.assertEqual([one.login.wrong for one in self.gear.values()], [0] * 4)

    def test_in_a_strange_network_they_are_written_down(self):
        (self.folder / "rig.yaml").unlink()
        self.gear["mark-1000"].login.user, self.gear["mark-1000"].login.password = "admin", "admin"
        found = self.find("--try-defaults", "--add")
        self.assertEqual((found["mark-1000"]["default_login_works"], found["mark-1000"]["firmware"]), (True, "1.08"))
        self.assertEqual((found["start-pontoon"]["default_login_works"], found["start-pontoon"]["can_push"]), (False, None))
        self.assertFalse(self.gear["start-pontoon"].login.locked)
        wrong = self.gear["start-pontoon"].login.wrong
        text = (self.folder / "rig.yaml").read_text()
        for name, driver in (
            ("start-pontoon", "osier-20"), ("1000-m-mark", "fescue"), ("brindle-b2", "brindle-b2"), ("marram-360", "marram-360"),
        ):  # what else is on this machine may have taken the plain name
            self.assertRegex(text, rf"  {name}(?:-\d)?:\n    driver: {driver}\n")
        again = self.find("--add")
        text = (self.folder / "rig.yaml").read_text()  # what else is on this machine may have been added meanwhile
        for one in self.gear.values():
            self.assertEqual(text.count(f"127.0.0.1:{one.port}\n"), 1, "nothing is added twice")
        self.assertRegex(again["mark-1000"]["rig_name"], r"^1000-m-mark(?:-\d)?$")
        self.assertEqual(self.gear["start-pontoon"].login.wrong, wrong)
        said = self.direkt("find", "--wait", "1s", "--try-defaults").out
        self.assertIn("the login it was delivered with still works", " ".join(said.split()))

    def test_wrong_use(self):
        for arguments, words in (
            (("--subnet", "10.0.0.0/8"), "at most 4096"), (("--subnet", "pond"), "not a subnet"), (("--interface", "pond0"), "no interface 'pond0'"),
        ):  # fmt: skip
            self.one_line(self.direkt("find", *arguments), 2, words)
        self.assertEqual(self.direkt("find", "--ports", "80,x").code, 2)


class Silence(Regatta):
    names = ()

    def test_nobody_there(self):
        (self.folder / "rig.yaml").unlink()
        result = self.direkt(
            "find", "--wait", "0.3s", "--interface", "127.0.0.1", "--subnet", "127.0.0.1/32", "--ports", str(free_port()),
            "--json",
        )
        others = [d for d in result.json["devices"] if d["address"]]
        self.assertEqual(result.code, 3 if not others else 0)
        listed = self.direkt("device", "health", "--all", "--rig", str(self.folder / "none.yaml"))
        self.one_line(listed, 2, "no such file")


class Looking(Regatta):
    faults = ("umpire-launch:wrong-clock", "mark-1000:wrong-clock", "mark-1000:black")

    def test_health_clock_and_pictures(self):
        health = self.direkt("device", "health", "--all", "--json")
        self.assertEqual(health.code, 1)
        rows = {row["device"]: row for row in health.json["devices"]}
        self.assertEqual((rows["finish-tower"]["fan"], rows["finish-tower"]["wrong"]), ("turning", []))
        self.assertIn("its clock is 90 min behind: set it with: direkt device time mark-1000", rows["mark-1000"]["wrong"])
        self.gear["finish-tower"].fan = "stopped"
        self.assertIn("its fan says stopped", self.direkt("device", "health", "finish-tower").out)
        self.assertEqual(self.direkt("device", "time", "mark-1000", "--show").code, 1)
        self.assertEqual(self.direkt("device", "time", "mark-1000", "--json").json["offset"], 0.0)
        self.assertEqual(
            self.direkt("device", "time", "mark-1000", "--ntp", "192.0.2.8", "--json").json["servers"], ["192.0.2.8"]
        )
        self.one_line(self.direkt("device", "time", "finish-tower"), 2, "cannot set its clock")

        sheet = self.direkt("device", "snapshot", "--all", "-o", "all.png", "--json")
        remarks = {shot["device"]: shot["remark"] for shot in sheet.json["devices"]}
        self.assertEqual((sheet.code, remarks["start-pontoon"]), (1, None))
        self.assertIn("black", remarks["mark-1000"])
        self.assertIn("cannot take a picture", remarks["finish-tower"])
        self.assertTrue((self.folder / "all.png").read_bytes().startswith(b"\x89PNG"))
        self.one_line(self.direkt("device", "snapshot", "start-pontoon", "-o", "all.png"), 2, "already exists")
        self.assertEqual(self.direkt("device", "snapshot", "start-pontoon", "-o", "a.jpg").code, 0)
        self.assertEqual((self.folder / "a.jpg").read_bytes()[:2], b"\xff\xd8")
        self.one_line(self.direkt("device", "snapshot", "start-pontoon", "-o", "a.txt"), 2, ".jpg or .png")

        self.assertIn("Pontoon", self.direkt("device", "preset", "start-pontoon", "list", "--json").out)
        self.assertEqual(self.direkt("device", "preset", "start-pontoon", "go", "pontoon").code, 0)
        self.assertEqual(self.gear["start-pontoon"].position, "p2")
        self.direkt("device", "preset", "start-pontoon", "store", "Pontoon")
        self.direkt("device", "preset", "start-pontoon", "store", "Jury")
        self.assertEqual(list(self.gear["start-pontoon"].presets.values()), ["Start line", "Pontoon", "Whole course", "Jury"])
        self.one_line(self.direkt("device", "preset", "start-pontoon", "go", "Moon"), 2, "no position 'Moon'")

    def test_a_device_that_is_off(self):
        self.gear["mark-1000"].web.close()
        health = self.direkt("device", "health", "--all", "--json").json
        row = next(row for row in health["devices"] if row["device"] == "mark-1000")
        self.assertEqual((row["reachable"], "connection refused" in row["wrong"][0]), (False, True))
        found = self.direkt("find", "--wait", "0.5s", "--json").json
        self.assertIn("mark-1000 of the rig does not answer", " ".join(found["notes"]))
        self.one_line(self.direkt("device", "restart", "mark-1000", "--yes"), 3, "cannot be reached")


class Changing(Regatta):
    names = ("finish-tower", "start-pontoon", "mark-1000")

    def test_firmware(self):
        self.file("osier (3.3) [final].bin", firmware_file("Osier 20", "3.3.0"))
        self.file("fescue.bin", firmware_file("Fescue", "1.09"))
        self.file("brindle.bin", firmware_file("Brindle B2", "2.5.0"))
        self.file("empty.bin", b"")
        for device, file, words in (
            ("start-pontoon", "fescue.bin", "this file is for Fescue, this is Osier 20"), ("finish-tower", "fescue.bin", "this file is for Fescue, this is Brindle B2"),
        ):  # fmt: skip
            self.one_line(self.direkt("device", "firmware", device, file, "--yes"), 3, words)
        self.one_line(self.direkt("device", "firmware", "start-pontoon", "none.bin", "--yes"), 2, "none.bin")
        self.one_line(self.direkt("device", "firmware", "start-pontoon", "empty.bin", "--yes"), 2, "is empty")
        self.one_line(self.direkt("device", "firmware", "start-pontoon", "fescue.bin"), 2, "--yes")
        self.assertEqual(
            self.direkt("device", "firmware", "start-pontoon", "osier (3.3) [final].bin", "--yes", "--json").json["after"],
            "3.3.0",
        )
        self.assertEqual(
            self.direkt("device", "firmware", "finish-tower", "brindle.bin", "--yes", "--json").json["after"], "2.5.0"
        )
        self.assertEqual(
            self.direkt("device", "firmware", "finish-tower", "brindle.bin", "--yes").code, 1, "the version is as it was",
        )

    def test_address(self):
        before = (self.folder / "rig.yaml").read_text()
        port = self.gear["mark-1000"].port
        for arguments, words in (
            (("--static", "127.0.0.9"), "goes with --gateway"), (("--static", "127.0.0.9", "--gateway", "127.0.0.1"), "the mask is missing"),
            (("--static", "127.0.0.9/24", "--gateway", "10.0.0.1"), "is not in 127.0.0.0/24"), (("--static", "127.0.0.255/24", "--gateway", "127.0.0.1"), "no device can have"),
            (("--dhcp", "--static", "127.0.0.9/24"), "name one of"), ((), "name one of"), (("--static", "pond/24", "--gateway", "x"), "not an address with a mask"),
        ):  # fmt: skip
            self.one_line(self.direkt("device", "address", "mark-1000", *arguments, "--yes"), 2, words)
        moved = self.direkt(
            "device", "address", "mark-1000", "--static", "127.0.0.9/8", "--gateway", "127.0.0.1", "--yes", "--wait", "15s",
            "--json",
        )
        self.assertEqual(moved.code, 0, moved)
        self.assertIn("to get back", moved.err)
        after = (self.folder / "rig.yaml").read_text()
        self.assertEqual(after, before.replace(f"http://127.0.0.1:{port}", f"http://127.0.0.9:{port}"))
        self.assertEqual(self.direkt("read", "mark-1000").code, 0)
        self.gear["mark-1000"].faults.never_returns = True
        lost = self.direkt(
            "device", "address", "mark-1000", "--static", "127.0.0.10/8", "--gateway", "127.0.0.1", "--yes", "--wait", "2s",
        )
        self.one_line(lost, 3, "does not answer at 127.0.0.10", "to get back: it was at 127.0.0.9/8")
        self.assertEqual((self.folder / "rig.yaml").read_text(), after)

    def test_restart(self):
        self.assertEqual(self.direkt("device", "restart", "mark-1000", "--yes").code, 0)
        self.one_line(self.direkt("device", "restart", "mark-1000"), 2, "--yes")
        self.gear["finish-tower"].faults.never_returns = True
        self.one_line(
            self.direkt("device", "restart", "finish-tower", "--yes", "--wait", "1s"), 3, "has not come back within 1 s"
        )


class Claiming(Regatta):
    names = ()

    def new(self) -> Osier:
        made = Osier("", "")
        made.start()
        self.addCleanup(made.stop)
        text = (
            (self.folder / "rig.yaml")
            .read_text()
            .replace(
                "destinations:", f"  spare: {{driver: osier-20, address: http://127.0.0.1:{made.port}}}   # new\ndestinations:",
            )
        )
        (self.folder / "rig.yaml").write_text(text)
        return made

    def test_a_first_password_is_made_kept_and_never_shown(self):
        device = self.new()
        self.one_line(self.direkt("read", "spare"), 3, "direkt device claim spare")
        claimed = self.direkt("device", "claim", "spare", "--json")
        self.assertEqual(claimed.json["login"], "store:lake-varn-regatta/login/spare")
        self.said.append(claimed.out)
        self.assertEqual(len(device.login.password), 14)
        SECRETS.append(device.login.password)
        self.addCleanup(SECRETS.remove, device.login.password)
        self.assertIn('login: "store:lake-varn-regatta/login/spare"}   # new', (self.folder / "rig.yaml").read_text())
        self.assertEqual(self.direkt("read", "spare").code, 0)
        self.one_line(self.direkt("device", "claim", "spare"), 3, "it has one already: use its login")
        self.one_line(self.direkt("device", "claim", "spare", "--ask", text="Another-1\n"), 3, "it has one already")
        self.assertEqual(self.direkt("read", "spare").code, 0, "the password that is kept stays kept")
        self.assertEqual(
            (device.login.wrong, oct((self.folder / "config" / "keys-secret.json").stat().st_mode & 0o777)), (0, "0o600"),
        )

    def test_one_that_is_off_or_lost_on_the_way(self):
        device = self.new()
        device.web.close()
        self.one_line(self.direkt("device", "claim", "spare"), 3, "cannot be reached")
        self.assertFalse((self.folder / "config" / "keys-secret.json").exists())
        device.web.open()
        take = device.answer

        def cut(request):
            answer = take(request)
            if b"CreateUsers" in request.body:
                raise ConnectionError  # it was done, and the answer is lost
            return answer

        device.web._answer = cut
        lost = self.direkt("device", "claim", "spare")
        self.assertEqual(lost.code, 3)
        self.assertIn("it is kept as store:lake-varn-regatta/login/spare", lost.err)
        SECRETS.append(device.login.password)
        self.addCleanup(SECRETS.remove, device.login.password)
        self.assertEqual(
            device.login.password,
            json.loads((self.folder / "config" / "keys-secret.json").read_text())[
                "lake-varn-regatta/login/spare"
            ].partition(":")[2],
        )
        device.web._answer = take
        self.assertEqual(self.direkt("device", "claim", "spare").code, 0, "the next try finds that the first one came through")
        self.assertEqual((self.direkt("read", "spare").code, device.login.wrong), (0, 0))

    def test_one_that_is_typed_and_one_that_the_device_does_not_want(self):
        device = self.new()
        weak = self.direkt("device", "claim", "spare", "--ask", text="short\n")
        self.one_line(weak, 3, "8 characters at least")
        self.assertNotIn("login:", (self.folder / "rig.yaml").read_text().split("spare:")[1].split("\n")[0])
        self.assertEqual(self.direkt("key", "list", "--json").out.count("login/spare"), 0, "it was not kept")
        self.assertEqual(self.direkt("device", "claim", "spare", "--ask", "--user", "boss", text="Swan-and-2-ducks\n").code, 0)
        self.assertEqual((device.login.user, device.login.password), ("boss", "Swan-and-2-ducks"))
        self.one_line(self.direkt("device", "claim", "spare", "--user", "a:b"), 2, "holds a colon")


class WritingMany(Regatta):
    names = ("finish-tower", "start-pontoon", "umpire-launch", "mark-1000")
    faults = ("umpire-launch:clamps",)

    def test_a_rig_without_feeds_or_devices_is_not_all_right(self):
        self.file("none.yaml", "schema: direkt.rig/1\nname: None\n")
        for what, *words in (("feeds", "match", "--all"), ("feeds", "write", "--all", "--yes"), ("feeds", "match"), ("devices", "drift"),
                             ("devices", "device", "health", "--all"), ("devices", "read")):  # fmt: skip
            self.one_line(self.direkt(*words, "--rig", "none.yaml"), 2, f"none.yaml has no {what}: write one")

    def test_nothing_that_was_refused_is_said_to_be_ready(self):
        secrets = self.folder / "secrets.yaml"
        secrets.write_text(re.sub(r"(operator):\S+", r"\1:not-it", secrets.read_text()))
        matched, written = self.direkt("match", "--all"), self.direkt("write", "--all", "--yes")
        self.assertEqual((matched.code, written.code), (3, 3))
        self.assertNotIn("To set all of it", matched.err)
        self.assertIn("finish-tower: has refused this login", written.out)  # by the command before: it is not sent a second time
        self.assertNotIn("; \n", written.out)

    def test_all_at_once_learned_drifted_and_restored(self):
        matched = self.direkt("match", "--all", "--json")
        self.assertEqual(
            (matched.code, [row["feed"] for row in matched.json["feeds"]]), (0, ["finish", "start", "launch", "mark", "roof"]),
        )
        self.one_line(self.direkt("write", "--all"), 2, "--yes")
        written = self.direkt("write", "--all", "--yes", "--json")
        self.assertEqual(written.code, 1)
        rows = {row["feed"]: row for row in written.json["feeds"]}
        self.assertEqual(
            (rows["finish"]["outcome"], rows["start"]["outcome"], rows["launch"]["did_not_stick"]),
            ("as wanted", "as wanted", ["video.bitrate.mean"]),
        )
        self.assertEqual((rows["mark"]["outcome"], rows["mark"]["did_not_stick"]), ("as wanted", []))
        self.assertEqual((rows["roof"]["outcome"], rows["roof"]["reason"]), ("by hand", "set by hand: direkt card roof"))
        self.assertEqual((self.gear["start-pontoon"].adaptive, self.gear["umpire-launch"].now["mbps"]), (False, 1.5))
        again = self.direkt("match", "launch", "--json")
        self.assertEqual(
            (again.code, [s["parameter"] for s in again.json["steps"] if s["change"]]), (0, []), "what it can do was learned",
        )

        log = self.direkt("log", "changes", "--json").json["changes"]
        self.assertEqual(
            {(c["feed"], c["outcome"]) for c in log},
            {("finish", "as wanted"), ("start", "as wanted"), ("launch", "not all stuck"), ("mark", "as wanted")},
        )
        self.assertEqual(next(c for c in log if c["feed"] == "start")["changes"]["video.codec"], ["h265", "h264"])
        self.assertIn("video.codec: h265 -> h264", self.direkt("log", "changes", "start-pontoon").out)

        self.assertEqual((self.direkt("drift").code, self.direkt("drift").out), (0, ""))
        self.gear["start-pontoon"].streams["p-main"].coder.bitrate = 5000
        self.gear["finish-tower"]._slot["server"] = "rtmp://elsewhere.example/live"
        drift = self.direkt("drift", "start-pontoon", "finish-tower", "--json")
        found = {(d["device"], d["parameter"]): (d["written"], d["now"]) for d in drift.json["drift"]}
        self.assertEqual(drift.code, 1)
        self.assertEqual(found[("start-pontoon", "video.bitrate.mean")], (6900, 5000))
        self.assertEqual(found[("finish-tower", "push slot server")][1], "rtmp://elsewhere.example/live")

        self.assertIn("saved-settings/start-pontoon", self.direkt("restore", "start-pontoon", "--list").out)
        newest = sorted((self.folder / ".direkt/saved-settings").glob("start-pontoon-*.json"))[-1]
        (newest.parent / "start-pontoon-main-20200101-000000.json").write_text('{"schema": "direkt.sav')
        listed = self.direkt("restore", "start-pontoon", "--list")
        self.assertEqual((listed.code, listed.out.count("channel main")), (0, 1))
        self.assertEqual(self.direkt("restore", "start-pontoon", newest.name, "--yes").code, 0)
        self.assertEqual(self.gear["start-pontoon"].streams["p-main"].coder.codec, "H265")
        self.assertEqual((self.gear["start-pontoon"].push_to, self.gear["start-pontoon"].adaptive), ("", True))
        self.one_line(self.direkt("restore", "umpire-launch", "rig.yaml", "--yes"), 2, "not saved settings")

    def test_near_the_start_nothing_restarts(self):
        near = self.direkt("write", "finish", "--yes", "--near", "23:59")
        soon = __import__("datetime").datetime.now() + __import__("datetime").timedelta(minutes=10)
        before = json.dumps(self.gear["finish-tower"].state()["channels"])
        self.assertEqual(self.direkt("restore", "finish-tower", "--yes").code if near.code == 0 else 0, 0)
        result = self.direkt("write", "finish", "--yes", "--near", f"{soon:%Y-%m-%d %H:%M:%S}")
        self.one_line(result, 2, "would have to restart", "--restart-anyway")
        self.assertIn("put back", result.err)
        self.assertEqual(json.loads(before)["second"], self.gear["finish-tower"].state()["channels"]["second"])
        self.assertFalse(self.gear["finish-tower"].state()["restart_needed"])
        self.assertEqual(self.direkt("write", "finish", "--yes", "--near", f"{soon:%H:%M}", "--restart-anyway").code, 0)
        self.one_line(self.direkt("write", "finish", "--yes", "--near", "noon"), 2, "no time")

    def test_one_that_fails_stops_no_other(self):
        self.gear["start-pontoon"].web.close()
        written = self.direkt("write", "--all", "--yes", "--json")
        rows = {row["feed"]: row["outcome"] for row in written.json["feeds"]}
        self.assertEqual((written.code, rows["start"], rows["finish"]), (3, "failed", "as wanted"))

    def test_a_channel_pushed_to_two_sheets(self):
        text = (
            (self.folder / "rig.yaml")
            .read_text()
            .replace("uplink:", "  village: {device: finish-tower, destination: plainsong, slot: 2}\nuplink:")
        )
        (self.folder / "rig.yaml").write_text(text.replace("mbit_s: 46", "mbit_s: 60"))
        plan = self.direkt("match", "finish", "--json").json
        wanted = {s["parameter"]: s["wanted"] for s in plan["steps"]}
        self.assertEqual(
            (wanted["video.size"], wanted["video.frame_rate"], wanted["audio.sample_rate"]), ("1280x720", 25, 44100),
            "both can be met",
        )
        self.assertEqual(plan["unmet"], [])


class OldFirmware(Regatta):
    names = ("start-pontoon",)
    faults = ("start-pontoon:old-firmware",)

    def test_it_is_said_where_the_push_comes_from(self):
        plan = self.direkt("match", "start", "--json")
        self.assertEqual(plan.code, 1)
        self.assertIn("pushes from firmware 3.1 on, and has 2.9.4", plan.json["unmet"][-1]["reason"])
        self.assertEqual(self.direkt("write", "start", "--yes").code, 1)
        self.assertEqual(self.gear["start-pontoon"].streams["p-main"].coder.codec, "H264", "its settings are right all the same")
        self.one_line(self.direkt("push", "on", "start"), 2, "no push of its own")


class Following(Regatta):
    """docs/drivers.md, block by block."""

    names = ("finish-tower", "umpire-launch", "start-pontoon")

    def test_the_page_leads_to_a_push(self):
        page = (ROOT / "docs" / "drivers.md").read_text()
        merged: dict[str, object] = {}
        from direkt import documents

        blocks = re.findall(r"```yaml\n(.*?)```", page, re.DOTALL)
        (by_hand,) = [block for block in blocks if "kind: hand" in block]
        self.file("hand.yaml", by_hand)
        self.assertEqual(self.direkt("driver", "lint", "hand.yaml").code, 0)
        for block in (block for block in blocks if block != by_hand):
            for key, value in documents.plain(documents.parse(block, "page")).items():
                merged[key] = {**merged[key], **value} if isinstance(merged.get(key), dict) else value
        self.file("tower.yaml", json.dumps(merged))
        self.assertEqual(self.direkt("driver", "lint", "tower.yaml").code, 0)
        address = f"http://127.0.0.1:{self.gear['finish-tower'].port}"
        tried = self.direkt(
            "driver", "try", "tower.yaml", address, "--login", "file:secrets.yaml#finish-tower", "--write-back", "--json",
        )
        shipped = self.direkt("driver", "try", "brindle-b2", address, "--login", "file:secrets.yaml#finish-tower", "--json")
        self.assertEqual(tried.code, 0, tried)
        self.assertEqual({**tried.json, "write_back_failed": []}, shipped.json, "the same readings")

        text = (self.folder / "rig.yaml").read_text().replace("driver: brindle-b2", "driver: tower.yaml")
        (self.folder / "rig.yaml").write_text(text)
        self.assertEqual(self.direkt("write", "finish", "--yes").code, 0)
        port = free_port()
        catching = self.start("catch", "--feed", "finish", "--for", "2s", "--port", str(port), "--json")
        wait_for_port(port)
        self.assertEqual(self.direkt("push", "on", "finish", "--rehearse", f"rtmp://127.0.0.1:{port}/live").code, 0)
        caught = self.finish(catching)
        self.assertEqual(caught.json["measured"]["video.size"], "1920x1080", caught)
        self.assertEqual(self.direkt("push", "off", "finish").code, 0)

    def test_lists_beginnings_and_wrong_files(self):
        self.assertIn("osier-20", self.direkt("driver", "list", "--json").out)
        self.assertEqual(self.direkt("driver", "new", "xml", "-o", "n.yaml", "--title", "Pond camera").code, 0)
        self.one_line(self.direkt("driver", "new", "xml", "-o", "n.yaml"), 2, "already exists")
        self.assertEqual(self.direkt("driver", "lint", "n.yaml", "--json").json["title"], "Pond camera")
        address = f"http://127.0.0.1:{self.gear['umpire-launch'].port}"
        self.one_line(
            self.direkt("driver", "try", "brindle-b2", address, "--login", "file:secrets.yaml#umpire-launch"), 3,
            "wants a basic login, its driver uses digest",
        )
        self.one_line(self.direkt("driver", "try", "onvif", address), 3, "wants a login (basic)")
        self.one_line(self.direkt("driver", "try", "onvif", "192.0.2.1"), 2, "http://192.0.2.1")
        shutil.copy(Path(library.__file__).parent / "drivers" / "marram-360.yaml", self.folder / "m.yaml")
        text = (self.folder / "m.yaml").read_text()
        self.file("m.yaml", text.replace("at: video/gop", "at: video/group"))
        lost = self.direkt("driver", "try", "m.yaml", address, "--login", "file:secrets.yaml#umpire-launch")
        self.assertEqual(lost.code, 1)
        self.assertIn("nothing stands at video/group", lost.out)


class Sockets(Regatta):
    names = ("start-pontoon",)

    def test_a_probe_by_hand_is_answered(self):
        from direkt.protocol import discovery

        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
            probe.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton("127.0.0.1"))
            probe.settimeout(3)
            probe.sendto(discovery.probe("urn:uuid:by-hand"), (discovery.GROUP4, discovery.PORT))
            answers = {probe.recv(65536) for _ in range(2)}
        matches = [m for data in answers for m in discovery.read(data)]
        self.assertIn("urn:uuid:by-hand", {m.relates_to for m in matches})


def tearDownModule() -> None:
    assert FITTED >= DOCUMENTS, f"never made: {DOCUMENTS - FITTED}"
