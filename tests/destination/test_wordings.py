"""A sheet rendered as a table in many wordings is drafted back to itself."""

import random
import unittest

from direkt.destination import draft
from direkt.destination.published.words import vocabulary

# What a parameter's row may say, and what that means: (text, must, should)
VALUES = {
    "video.codec": [("H.264", "h264"), ("H.264 (AVC)", "h264"), ("AVC or HEVC", ["h264", "h265"]), ("h265", "h265")],
    "video.profile": [("High", "high"), ("Main or High", ["main", "high"]), ("baseline, main", ["baseline", "main"]), ("High profile", "high")],
    "video.level": [("4.1", "4.1"), ("up to 4.2", {"max": "4.2"}), ("3.1 or higher", {"min": "3.1"}), ("max. 5.1", {"max": "5.1"})],
    "video.frame_rate": [("25 fps", 25), ("29.97 or 30", [29.97, 30]), ("50/60 fps", [50, 60]), ("up to 60 fps", {"max": 60}), ("24–60 fps", {"min": 24, "max": 60})],
    "video.scan": [("progressive", "progressive"), ("progressive only, no interlaced", "progressive"), ("interlaced", "interlaced")],
    "video.chroma": [("4:2:0", "4:2:0"), ("4:2:2 or 4:2:0", ["4:2:2", "4:2:0"])],
    "video.bit_depth": [("8 bit", 8), ("8", 8), ("8 or 10 bits", [8, 10])],
    "video.display_aspect": [("16:9", "16:9"), ("16:9 or 4:3", ["16:9", "4:3"]), ("16 : 9", "16:9")],
    "video.rate_control": [("CBR", "cbr"), ("constant bitrate", "cbr"), ("VBR or CBR", ["vbr", "cbr"])],
    "video.entropy": [("CABAC", "cabac"), ("CABAC or CAVLC", ["cabac", "cavlc"])],
    "video.reference_frames": [("3", 3), ("max 4", {"max": 4}), ("at most 2", {"max": 2})],
    "video.b_frames": [("none", 0), ("2 or fewer", {"max": 2}), ("no more than 3", {"max": 3})],
    "audio.codec": [("AAC", "aac"), ("AAC or MP3", ["aac", "mp3"]), ("Opus", "opus")],
    "audio.sample_rate": [("48 kHz", 48000), ("44.1 or 48 kHz", [44100, 48000]), ("48000 Hz", 48000), ("44.1/48 kHz", [44100, 48000])],
    "audio.channels": [("stereo", 2), ("mono or stereo", [1, 2]), ("2", 2), ("2 channels", 2), ("5.1", 6)],
    "video bitrate": [("4500 kbit/s", 4500), ("4,500–6,500 kbps", {"min": 4500, "max": 6500}), ("max 8 Mbit/s", {"max": 8000}), ("at least 2.5 Mbps", {"min": 2500}), ("between 3 and 6 Mbit/s", {"min": 3000, "max": 6000})],
    "audio bitrate": [("128 kbps", 128), ("96 - 192 kbit/s", {"min": 96, "max": 192}), ("up to 320k", {"max": 320})],
    "total bitrate": [("8 Mbps max", {"max": 8000}), ("up to 9000 kbps", {"max": 9000})],
    "peak bitrate": [("9 Mbit/s", {"max": 9000}), ("no more than 7500 kbps", {"max": 7500})],
}  # fmt: skip
PARAMETER = {
    "video bitrate": "video.bitrate.mean", "audio bitrate": "audio.bitrate.mean", "total bitrate": "stream.bitrate.mean", "peak bitrate": "video.bitrate.peak",
}  # fmt: skip


def names(topic):
    for line in vocabulary._TOPICS.strip().splitlines():
        found, _, listed = line.partition(": ")
        if found == topic:
            return [phrase.strip() for phrase in listed.split("|")]
    raise KeyError(topic)


def rules(text, kind):
    made = draft.read(text, kind)
    return {name: rule.parts for name, rule in made.found.rules.get("", {}).items()}, [one.words for one in made.not_understood]


class Names(unittest.TestCase):
    def test_every_name_of_a_parameter_names_it(self):
        missed = []
        for topic, values in VALUES.items():
            for name in names(topic):
                text, meant = values[len(name) % len(values)]
                found, left = rules(f'"{name}","{text}"\n', "csv")
                if found != {PARAMETER.get(topic, topic): {"must": meant}} or left:
                    missed.append((name, text, found, left))
        self.assertEqual(missed, [])

    def test_every_unit_of_a_bitrate_counts_right(self):
        for (measures, factor), listed in vocabulary._UNITS.items():
            for unit in listed.split("|") if measures == "bitrate" else ():
                number = {1.0: 4500, 1000.0: 4, 0.001: 4_500_000, 1_000_000.0: 0.25}[factor]
                found, left = rules(f"Video bitrate;{number} {unit}\n", "csv")
                self.assertEqual((found, left), ({"video.bitrate.mean": {"must": number * factor}}, []), unit)

    def test_every_limit_in_front_and_many_behind(self):
        for end, listed in vocabulary._LIMITS.items():
            for phrase in listed.split("|"):
                if phrase.startswith(("or ", "and ", "oder ", "ou ", "o ")):
                    found, left = rules(f"Video bitrate;5000 kbps {phrase}\n", "csv")
                elif "every" in phrase or phrase in (
                    "mindestens alle", "mindestens eins alle", "au moins toutes les", "almeno ogni", "al menos cada",
                    "at least each",
                ):
                    continue
                else:
                    found, left = rules(f"Video bitrate;{phrase} 5000 kbps\n", "csv")
                self.assertEqual((found, left), ({"video.bitrate.mean": {"must": {end: 5000}}}, []), phrase)

    def test_every_word_of_strength(self):
        for strength, listed in vocabulary._STRENGTHS.items():
            for phrase in listed.split("|") if strength in ("should", "must") else ():
                for text in (f"{phrase}: 2 s", f"{phrase} 2 s", f"2 s ({phrase})", f"2 s, {phrase}"):
                    found, left = rules(f'Keyframe interval;"{text}"\n', "csv")
                    self.assertEqual((found, left), ({"video.keyframe_interval.median": {strength: 2}}, []), text)

    def test_at_least_every_two_seconds_is_a_limit_upwards(self):
        for text, end in (
            ("at least every 2 s", "max"), ("at least one every 2 seconds", "max"), ("every 2 s or more often", "max"),
            ("at most every 2 s", "min"),
        ):
            found, left = rules(f"Keyframe;{text}\n", "csv")
            self.assertEqual((found, left), ({f"video.keyframe_interval.{end}": {"must": {end: 2}}}, []), text)


class Tables(unittest.TestCase):
    """Random sheets in random layouts and wordings."""

    def render(self, rows, columns, kind, source):
        heads = {
            "": source.choice(["Value", "Setting to use", "Requirement", "Specification"]),
            "should": source.choice(["Recommended", "Preferred", "Best value", "Our recommendation"]),
            "must": source.choice(["Required", "Mandatory", "Must be"]),
        }
        first = source.choice(["Parameter", "Setting", "Property", "What", ""])
        lines = [[first, *(heads[c] for c in columns)], *rows]
        if kind == "csv":
            sign = source.choice([";", "\t"])
            return "\n".join(sign.join(line) for line in lines) + "\n"
        if kind == "md":
            return "\n".join(
                [
                    "| " + " | ".join(lines[0]) + " |", "|---" * len(lines[0]) + "|",
                    *("| " + " | ".join(line) + " |" for line in lines[1:]),
                ]
            )
        tag = "".join(f"<tr>{''.join(f'<td>{cell}</td>' for cell in line)}</tr>\n" for line in lines[1:])
        return f"<table><tr>{''.join(f'<th>{cell}</th>' for cell in lines[0])}</tr>\n{tag}</table>"

    def test_what_is_rendered_is_drafted_back(self):
        source = random.Random(20)
        for number in range(400):
            columns = source.choice([[""], ["must", "should"], ["should"], ["", "should"]])
            wanted, rows = {}, []
            for topic in source.sample(sorted(VALUES), 7):
                cells, parts = [], {}
                for column in columns:
                    text, meant = source.choice(VALUES[topic])
                    strength = "should" if column == "should" else "must"
                    if len(columns) > 1 and (
                        isinstance(meant, dict) or topic in ("peak bitrate", "total bitrate") or source.random() < 0.3
                    ):
                        cells.append("" if cells or source.random() < 0.5 else text)
                        if cells[-1]:
                            parts[strength] = meant
                        continue
                    cells.append(text)
                    parts[strength] = meant
                if len(parts) == 2:  # what is recommended is allowed too
                    if isinstance(parts["must"], dict):
                        parts.pop("should")
                        cells[-1] = ""
                    else:
                        both = [v if isinstance(v, list) else [v] for v in (parts["must"], parts["should"])]
                        merged = list(dict.fromkeys([*both[0], *both[1]]))
                        if (
                            "" in columns
                            and topic in ("video bitrate", "audio bitrate", "video.level", "video.reference_frames")
                            and len(merged) > 1
                        ):
                            parts.pop("should")
                            cells[-1] = ""
                        else:
                            parts["must"] = merged if len(merged) > 1 else merged[0]
                if parts:
                    wanted[PARAMETER.get(topic, topic)] = parts
                rows.append([source.choice(names(topic)), *cells])
            kind = source.choice(["csv", "md", "html"])
            text = self.render(rows, columns, kind, source)
            found, left = rules(text, kind)
            self.assertEqual((found, left), (wanted, []), f"{number}\n{text}")


if __name__ == "__main__":
    unittest.main()
