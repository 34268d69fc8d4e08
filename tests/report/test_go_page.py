"""The page of an event's way to air, read by an HTML parser."""

from __future__ import annotations

import datetime
import unittest

from lxml import html as lxml_html

from direkt.finding import Verdict
from direkt.report.go_page import GoReport, Looked, Side, page

WHEN = datetime.datetime(2026, 7, 3, 14, 0, tzinfo=datetime.UTC)


class Pages(unittest.TestCase):
    def made(self, title="The finals", good=False):
        return page(GoReport(
            title, "finals", "2026-07-03T14:00:00+02:00", WHEN, "on air" if good else "stopped at step 5, not on air", good, "" if good else "finish does not conform",
            [(1, "before", 2.5, True), (5, "asked, set, sent, seen", 8.0, good)],
            [Looked(1, "tarnlight", Verdict.PASS, "it answers"), Looked(5, "finish", Verdict.FAIL, "picture size: <too small>", "direkt match finish")],
            [("finish", "tarnlight", [Side("video.size", "1280x720", "1280x720", "640x360", None, Verdict.FAIL), Side("video.frame_rate", "", 25.0, 25.0, 24.9, Verdict.PASS)])],
            [("tarnlight", "https://watch.tarnlight.example/finals", "everyone")],
        ))  # fmt: skip

    def test_where_it_ended_comes_first_and_what_stood_in_the_way_next(self):
        tree = lxml_html.document_fromstring(self.made())
        text = " ".join(tree.text_content().split())
        places = [text.index(words) for words in ("✗ stopped at step 5", "finish does not conform", "picture size: <too small>", "→ direkt match finish", "Where viewers go", "it answers")]
        self.assertEqual(places, sorted(places))
        rows = [[cell.text_content() for cell in row.xpath("td")] for row in tree.xpath("//table[1]/tbody/tr")]
        self.assertEqual(rows[0], ["picture size", "1280x720", "1280x720", "640x360", "–", "✗ fails"])
        self.assertEqual(rows[1], ["frame rate", "–", "25 fps", "25 fps", "24.9 fps", "✓ holds"])
        self.assertEqual(tree.xpath("//script|//link|//img[not(starts-with(@src, 'data:'))]"), [])
        self.assertIn("✓ on air", lxml_html.document_fromstring(self.made(good=True)).text_content())

    def test_a_title_is_text(self):
        tree = lxml_html.document_fromstring(self.made("<script>x</script>"))
        self.assertEqual((tree.xpath("//script"), tree.xpath("//h1")[0].text_content()), ([], "<script>x</script>"))


if __name__ == "__main__":
    unittest.main()
