"""The examples of docs/architecture.md, each put where it says into a copy of the package, and run."""

import ast
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
_BLOCK = re.compile(r"```python\n# (src/\S+?)(?:: ([^\n]*))?\n(.*?)```", re.DOTALL)
# where a line goes, by what the page says of its place: in front of, and what it replaces
_PLACES = {
    ("registry.py", "the row"): ('    Codec("vp8"', True), ("__init__.py", "in CONTAINERS"): ('"flv": "FLV"', False),
    ("schemes.py", "the row"): ('    Scheme("srt"', False), ("library.py", "in KINDS"): ('"http": "by_file"', False),
    ("traps.py", "in TRAPS"): ("_bitrate_unit, _sensor,", False), ("causes.py", "in CAUSES"): ('    Cause("codec"', False),
    ("checks.py", "in OF_DESTINATIONS"): ("_at_platform, _key, _length", False),
    ("parameters.py", "the row"): ('    Parameter("stream.bitrate.mean"', False),
    ("meter.py", "in Meter._whole"): ("        seconds = self.seconds\n", False),
}

_PROGRAM = r"""
import asyncio, struct, sys
from fractions import Fraction
from pathlib import Path
import numpy as np
from direkt import container, parameters
from direkt.destination import library
from direkt.causes import CAUSES
from direkt.device.library import load, models, open_driver
from direkt.device.state import Channel
from direkt.match import traps
from direkt.match.terms import BITRATE, Circumstances
from direkt.work.live import checks
from direkt.device.state import CannotDo, Capability, need
from direkt.measure.meter import Meter
from direkt.media import Format, batch
from direkt.net.transport import Left, transport
from direkt.protocol import address
from direkt.secret import Secret

folder, key = Path(sys.argv[1]), "varn~fake~bare"

meter = Meter()
meter.add(Format("video", "vp8", Fraction(1, 25)))
meter.add(batch("video", [b"\0" * 4] * 100, list(range(100)), list(range(100)), [False] * 100))
found = meter.snapshot().values
assert found["video.keyframe_interval.max"] == 0.04 and found["stream.bytes"] == 400, found

tone = bytes(128 + 100 * (n // 10 % 2) for n in range(16000))
(folder / "a.au").write_bytes(struct.pack(">4s6I", b".snd", 28, 16000, 1, 8000, 1, 0) + tone)
meter = Meter()
meter.add_all(container.read(folder / "a.au"))
found = meter.snapshot().values
assert (found["audio.codec"], found["stream.duration"], found["audio.silent"]) == ("g711u", 2.0, "no"), found

async def over_the_net():
    spoken, meter, over = transport("bare"), Meter("bare"), asyncio.Event()
    def take(event):
        if isinstance(event, Left):
            over.set()
        elif type(event).__module__ == "direkt.media":
            meter.add(event)
    receiver = spoken.receiver("live", Secret(key), take, spoken.recorder(folder / "a.ulaw"))
    port = await receiver.start("127.0.0.1", 0)
    publisher = spoken.publisher(address.parse(f"bare://127.0.0.1:{port}/live"), Secret(key))
    await publisher.start()
    await publisher.send(batch("audio", [tone], [0], [0], [True]))
    await publisher.close()
    async with asyncio.timeout(5):
        await over.wait()
    await receiver.stop()
    return meter.snapshot().values
found = asyncio.run(over_the_net())
assert (found["stream.protocol"], found["stream.duration"]) == ("bare", 2.0), found
assert address.parse("bare://host/live").port == 8666

(folder / "paper.yaml").write_text(
    "schema: direkt.driver/1\nkind: paper\nmodel: Fescue\nset: {video.size: 1280x720, audio.present: 'no'}\n"
)
driver = open_driver("paper.yaml", "start", "nowhere", None, folder)
assert driver.read().channels["main"].full["video.display_aspect"] == "16:9"
try:
    need(driver, Capability.WRITE)
    raise AssertionError("it cannot write")
except CannotDo as error:
    assert "by hand" in str(error)
assert load("paper.yaml", folder).kind == "paper"
assert len(models()) == 2

channel = Channel("main", {BITRATE: 4000}, {})
said = traps.notes(channel, {BITRATE: 4000}, {BITRATE: 4242}, library.load("tarnlight"), Circumstances(None, None, "rtmp", None))
assert any("from an example" in line for line in said), said
assert any(cause.name == "a-test-tone" for cause in CAUSES)
assert len(checks.OF_DESTINATIONS) == 5

(folder / "s.yaml").write_text("schema: direkt.sheet/1\nname: S\nrules: {stream.bytes: {must: {max: 5}}}\n")
assert "stream.bytes" in library.load(str(folder / "s.yaml")).rules
print("all of it works")
"""


class Examples(unittest.TestCase):
    def test_each_is_the_only_change_and_works(self):
        page = (ROOT / "docs" / "architecture.md").read_text()
        blocks = _BLOCK.findall(page)
        self.assertEqual(len(blocks), page.count("```python"))
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            shutil.copytree(ROOT / "src", folder / "src")
            for path, place, text in blocks:
                target = folder / path
                if not place:
                    self.assertFalse(target.exists(), path)
                    target.write_text(text)
                    continue
                mark, replaces = _PLACES[target.name, place]
                old = target.read_text()
                self.assertEqual(old.count(mark), 1, (path, mark))
                at = old.index(mark)
                indent = re.match(r" *", mark)[0]
                end = old.index("\n", at) + 1 if replaces else at
                new = "".join(indent + line for line in text.splitlines(keepends=True))
                target.write_text(old[:at] + new + old[end:])
            done = subprocess.run(
                [sys.executable, "-c", _PROGRAM, name], capture_output=True, text=True, timeout=60,
                env={"PYTHONPATH": str(folder / "src"), "PATH": ""},
            )  # fmt: skip
        self.assertEqual((done.returncode, done.stdout), (0, "all of it works\n"), done.stderr)

    def test_every_file_that_the_page_names_is_there(self):
        page = (ROOT / "docs" / "architecture.md").read_text()
        made = {path.removeprefix("src/direkt/") for path, place, _ in _BLOCK.findall(page) if not place}
        for name in re.findall(r"`([a-z/_]+\.py)`", page):
            self.assertTrue(name in made or (ROOT / "src" / "direkt" / name).is_file(), name)


# what each room may know of the others; everybody may know errors, mask, secret, documents, files and printable
ROOMS = {
    "media": "", "protocol": "codec media", "codec": "media", "container": "codec media protocol", "demand": "parameters",
    "net": "codec container media protocol", "parameters": "codec protocol", "measure": "codec media parameters",
    "glossary": "codec glossary_errors glossary_sums glossary_text parameters protocol", "glossary_sums": "codec parameters", "destination": "codec demand parameters protocol",
    "described": "demand parameters protocol", "device_side": "parameters", "finding": "destination parameters", "judge": "causes codec demand destination device_side finding parameters", "causes": "device_side finding parameters", "device": "device_side demand described destination parameters protocol",
    "rig": "described destination device protocol",
    "platform": "described destination parameters protocol rig store", "match": "codec demand described destination device parameters protocol rig",
    "work": "device_side finding codec container demand described destination device judge match report measure media net parameters platform protocol rig store",
    "store": "demand device parameters rig", "report": "demand finding judge measure parameters platform store",
    "page": "watch", "watch": "described destination device net parameters platform protocol rig store work",
    "sim": "finding codec container destination judge measure media net platform protocol rig work",
}  # fmt: skip


class Rooms(unittest.TestCase):
    def test_nobody_imports_what_lies_above(self):
        package = ROOT / "src" / "direkt"
        for path in sorted(package.rglob("*.py")):
            room = path.relative_to(package).parts[0].removesuffix(".py")
            if room not in ROOMS:
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                module = node.module or "" if isinstance(node, ast.ImportFrom) else ""
                names = [alias.name for alias in node.names] if isinstance(node, ast.Import | ast.ImportFrom) else []
                for name in names if module in ("", "direkt") else [module.removeprefix("direkt.")]:
                    other = name.split(".")[0]
                    if module.partition(".")[0] == "direkt" and other != room:
                        allowed = {*ROOMS[room].split(), "errors", "mask", "secret", "documents", "files", "printable"}
                        self.assertIn(other, allowed, f"{path.name} imports {other}")
                    self.assertNotIn(name.split(".")[0], ("click", "rich"), path.name)


if __name__ == "__main__":
    unittest.main()
