"""The contact sheet: what is seen of each picture, and where it stands."""

import io
import random
import unittest

from PIL import Image, ImageDraw

from direkt.errors import UnusableInput
from direkt.report.contact import Shot, contact_sheet


def picture(seed: int = 1, size=(320, 180), base=120, spread=60) -> bytes:
    chance = random.Random(seed)
    image = Image.new("RGB", size)
    draw = ImageDraw.Draw(image)
    for x in range(0, size[0], 20):
        for y in range(0, size[1], 20):
            shade = max(0, min(255, base + chance.randint(-spread, spread)))
            draw.rectangle((x, y, x + 19, y + 19), fill=(shade, shade, shade))
    out = io.BytesIO()
    image.save(out, "JPEG")
    return out.getvalue()


class Contact(unittest.TestCase):
    def test_what_is_wrong_with_a_picture(self):
        for shot, words in (
            (Shot("a", picture(), picture(2)), ""), (Shot("a", picture(base=2, spread=2)), "black"), (Shot("a", picture(spread=0)), "one plain colour"),
            (Shot("a", picture(), picture()), "frozen"), (Shot("a", trouble="does not answer"), "does not answer"),
            (Shot("a", picture(base=25, spread=24), picture(3, base=25, spread=24)), ""), (Shot("a", picture(), picture(size=(640, 360))), ""),
        ):  # fmt: skip
            self.assertEqual(shot.remark.split(":")[0], words, shot.name)
        self.assertEqual(Shot("a", picture()).size, "320x180")

    def test_what_is_no_picture(self):
        for data in (b"\xff\xd8", b"\xff\xd8\xff\xe0nothing", picture()[:200], b"GIF89a", b"<html>"):
            with self.assertRaises(UnusableInput):
                _ = Shot("a", data).remark

    def test_each_has_its_place_on_the_sheet(self):
        for count in (1, 2, 3, 5, 16, 17):
            shots = [Shot(f"camera {n}", picture(n), picture(n + 100), "09:15:00") for n in range(count)]
            page = contact_sheet(shots, "Regatta")
            columns = min(4, max(1, -(-int(count**0.5 * 1000) // 1000)))
            self.assertGreaterEqual(page.size[0], 400 * min(columns, count))
        page = contact_sheet([Shot("x" * 200, picture(), trouble="y" * 300), Shot("gone", trouble="does not answer")], "R")
        # the picture is pasted, centred and not stretched: its tile is 400x225, it is 320x180
        left = page.crop((16 + 40, 56 + 22, 16 + 40 + 320, 56 + 22 + 180)).convert("L")
        original = Image.open(io.BytesIO(picture())).convert("L")
        differences = [abs(a - b) for a, b in zip(left.tobytes(), original.tobytes(), strict=True)]
        self.assertLess(sum(differences) / len(differences), 3)


if __name__ == "__main__":
    unittest.main()
