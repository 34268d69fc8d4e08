"""The JSON Schema of sheets says of every value what reading the sheet says; and the skeleton holds whatever is uncommented."""

import itertools
import json
import random
import re
import unittest

import jsonschema

from direkt import documents, parameters
from direkt.destination import file
from direkt.destination.lint import lint
from direkt.destination.skeleton import SKELETON
from direkt.documents import DocumentError

VALUES = (
    25, 0, -5, 29.97, "25", "yes", "no", True, False, "h264", "H.264", "aac", "high", "main", "progressive", "1280x720", "1280 x 720", "720p", "16:9", "16/9", "4.1", 4.1, 4, "5", "4.1.2",
    100, "", "cbr", "4:2:0", "vbr", "2:1", "lc", "clean",
)  # fmt: skip


class Schema(unittest.TestCase):
    def setUp(self):
        self.validator = jsonschema.Draft202012Validator(file.json_schema())

    def reads(self, rule, name):
        text = f"schema: direkt.sheet/1\nname: T\nrules:\n  {name}: {rule}\n"
        try:
            file.build(documents.parse(text, "t.yaml"), "t")
        except DocumentError:
            return False
        return True

    def test_each_value_of_each_parameter_is_judged_alike(self):
        source = random.Random(2)
        differ = []
        for name in parameters.TABLE:
            wishes = [*VALUES, [], ["h264", "h265"], [25, 30], ["yes"], {"min": 1}, {"max": "4.2"}, {"min": 1, "max": 2}, {}, {"least": 1}, {"max": "yes"}, [25, "x"]]
            for wish in source.sample(wishes, 24):
                rule = {source.choice(("must", "should")): wish}
                good = self.reads(json.dumps(rule), name)
                valid = self.validator.is_valid({"schema": "direkt.sheet/1", "name": "T", "rules": {name: rule}})
                if good != valid:
                    differ.append((name, rule, good, valid))
        self.assertEqual(differ, [])

    def test_bad_sheets(self):
        for rules in (
            {"video.codec": {"must": "h.264"}}, {"video.codec": {"must": {"min": "h264"}}}, {"video.size": {"must": "720p"}}, {"video.frame_rate": {"must": "25 fps"}},
            {"video.frame_rate": {"must": {"min": -1}}}, {"video.bitrate.mean": {"must": "6 Mbit/s"}}, {"audio.channels": {"must": "stereo"}}, {"audio.present": {"must": "maybe"}},
            {"video.display_aspect": {"must": "wide"}}, {"video.level": {"must": "high"}}, {"video.keyframe_interval.max": {"must": {"maximum": 2}}},
            {"video.keyframe_interval.max": {"most": 2}}, {"video.keyframe": {"must": 2}}, {"video.codec": {"must": []}},
        ):  # fmt: skip
            self.assertFalse(self.validator.is_valid({"schema": "direkt.sheet/1", "name": "T", "rules": rules}), rules)

    def test_the_skeleton_holds_whatever_is_uncommented(self):
        lines = SKELETON.split("\n")
        parts: list[list[int]] = []
        for n, line in enumerate(lines):
            if re.match(r"# (?:  - \{|[a-z_]+:)", line) and not line.startswith(("# An ", "# extends")):
                parts.append([n])
            elif re.match(r"#   ", line) and parts and parts[-1][-1] == n - 1:
                parts[-1].append(n)
        self.assertGreaterEqual(len(parts), 5)
        for count in range(len(parts) + 1):
            for chosen in itertools.combinations(parts, count):
                made = list(lines)
                for n in itertools.chain(*chosen):
                    made[n] = re.sub(r"^# ?", "", made[n])
                text = "\n".join(made)
                sheet = file.build(documents.parse(text, "new.yaml"), "new")
                self.assertEqual(lint(sheet), [], chosen)
                self.validator.validate(documents.plain(documents.parse(text, "new.yaml")))


if __name__ == "__main__":
    unittest.main()
