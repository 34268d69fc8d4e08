"""The report of a judged stream: read by an HTML parser and a browser, printed, counted in pages; the tables read back by others."""

from __future__ import annotations

import csv
import datetime
import io
import json
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import pypdfium2
from lxml import etree
from lxml import html as lxml_html

from direkt.finding import Verdict
from direkt.judge import judge_sent
from direkt.measure.meter import Meter
from direkt.measure.series import OverTime
from direkt.report import exports, plots, reading, stream_pdf, stream_report
from direkt.report.stream_report import StreamReport
from tests.support import Cli, card, flv_bytes

BROWSER = next((path for name in ("chromium", "chromium-browser", "google-chrome") if (path := shutil.which(name))), None)
WHEN = datetime.datetime(2026, 7, 3, 14, 5, 6, tzinfo=datetime.timezone(datetime.timedelta(hours=2), "CEST"))


def report(subject="finish", happened=("0:04: nobody pushed for 2.0 s (it went away)",)):
    from direkt.destination import library

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.flv"
        path.write_bytes(flv_bytes(9, card(1280, 720, Fraction(25), 60, "main", 2500)))
        from direkt import container

        meter = Meter()
        meter.add_all(container.read(path))
        measurement = meter.snapshot()
    sheet = library.load("plainsong-village")
    judged = judge_sent(sheet, measurement.found)
    return StreamReport(subject, sheet.name, WHEN, reading.read(judged), judged.findings, measurement, "finish-tower", happened=happened)


class Page(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.report = report()
        cls.page = stream_report.page(cls.report)

    def test_it_is_one_file_and_says_all(self):
        tree = lxml_html.document_fromstring(self.page)
        for element in tree.iter():
            for name in ("src", "href", "{http://www.w3.org/1999/xlink}href"):
                self.assertTrue((element.get(name) or "#").startswith(("#", "data:")), (element.tag, element.attrib))
        self.assertEqual(tree.xpath("//script|//link|//iframe|//object"), [])
        self.assertNotRegex(self.page, r"url\((?!#)|@import")
        text = " ".join(tree.text_content().split())
        for words in ("finish against Plainsong Village Channel", "✗ fails", "To fix, in this order", "from finish-tower", "2026-07-03 at 14:05:06 CEST (UTC+0200)",
                      "nobody pushed for 2.0 s", "How each value is measured"):  # fmt: skip
            self.assertIn(words, text)
        rows = tree.xpath("//table/tbody/tr")
        self.assertEqual(len(rows), len(self.report.findings))
        self.assertGreaterEqual(len(tree.xpath("//figure//*[local-name()='svg']")), 2)
        marks = {cell.text_content()[0] for cell in tree.xpath("//table/tbody/tr/td[last()]")}
        self.assertLessEqual(marks, set("✓!✗?"), "no verdict by colour alone")

    def test_names_stay_text(self):
        for name in ("<script>alert(1)</script>", "a" * 60, "רגאטה של האגם", 'x" onload="y'):
            tree = lxml_html.document_fromstring(stream_report.page(report(name)))
            self.assertEqual(tree.xpath("//script"), [])
            self.assertIn(name, tree.xpath("//h1")[0].text_content())

    def test_colours_can_be_read(self):
        """WCAG 2.2, 1.4.3: text has a contrast of at least 4.5 to 1."""

        def light(colour):
            if len(colour) == 4:
                colour = "#" + "".join(c * 2 for c in colour[1:])
            parts = [int(colour[n : n + 2], 16) / 255 for n in (1, 3, 5)]
            linear = [c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]
            return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

        style = self.page[self.page.index("<style>") : self.page.index("</style>")]
        for colour in set(re.findall(r"[^-]color: (#[0-9a-f]{3,6})", style)):
            self.assertGreaterEqual(1.05 / (light(colour) + 0.05), 4.5, colour)

    @unittest.skipUnless(BROWSER, "no browser is installed here")
    def test_a_browser_shows_it_quietly_and_prints_two_sheets(self):
        from playwright.sync_api import sync_playwright

        with tempfile.TemporaryDirectory() as folder, sync_playwright() as driver:
            path = Path(folder) / "r.html"
            path.write_text(self.page)
            browser = driver.chromium.launch(executable_path=BROWSER, args=["--no-sandbox"])
            for width in (390, 1280):
                page = browser.new_page(viewport={"width": width, "height": 800})
                said, asked = [], []
                page.on("console", lambda message, said=said: said.append(message.text))
                page.on("pageerror", lambda error, said=said: said.append(str(error)))
                page.on("request", lambda request, asked=asked: asked.append(request.url))
                page.goto(path.as_uri())
                self.assertEqual((said, asked), ([], [path.as_uri()]))
                self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), width)
            printed = page.pdf(prefer_css_page_size=True)
            browser.close()
        self.assertLessEqual(len(pypdfium2.PdfDocument(printed)), 2)

    def test_the_pdf_holds_the_same(self):
        document = pypdfium2.PdfDocument(stream_pdf.pdf(self.report))
        self.assertLessEqual(len(document), 2)
        text = " ".join("".join(page.get_textpage().get_text_bounded() for page in document).split())
        for words in ("finish against Plainsong Village Channel", "✗ fails", "To fix, in this order", "CEST"):
            self.assertIn(words, text)
        self.assertGreaterEqual(sum(1 for page in document for item in page.get_objects() if item.type == 3), 2, "the plots")


class Tables(unittest.TestCase):
    def test_the_seconds_add_up(self):
        made = report()
        rows = list(csv.DictReader(io.StringIO(exports.series_csv(made.measurement))))
        rates = [float(row["video bitrate (kbit/s)"]) for row in rows if row["video bitrate (kbit/s)"]]
        mean = made.measurement.found["video.bitrate.mean"].value
        self.assertAlmostEqual(sum(rates[:-1]) / len(rates[:-1]), mean, delta=mean * 0.05)
        level = made.measurement.found["audio.level"].value
        levels = [float(row["audio level (dBFS)"]) for row in rows if row["audio level (dBFS)"]]
        self.assertGreaterEqual(len(levels), 8)
        self.assertTrue(all(abs(one - level) < 2 for one in levels), "an even tone")
        keyframes = sum(float(row["keyframes (count)"] or 0) for row in rows)
        self.assertEqual(keyframes, 4)  # 225 pictures, one in 60

    def test_a_buffer_by_the_second(self):
        track = OverTime(1.0, (3000.0, 3000.0, 1000.0, 1000.0, 2000.0, 2000.0), (0,) * 6, (), 5.5)
        self.assertEqual(plots.fullness(track), [0.5, 1.0, 0.5, 0.0, 0.0])
        self.assertEqual(plots.fullness(OverTime(1.0, (0.0, 0.0, 0.0), (0,) * 3, (), 3.0)), [0.0])

    def test_pipelines_read_it(self):
        made = report('a "b" <c>\x07')
        tree = etree.fromstring(exports.junit(made.subject, made.against, made.findings, 9.0))
        suite = tree[0]
        cases = suite.findall("testcase")
        self.assertEqual((suite.get("tests"), len(cases)), (str(len(made.findings)), len(made.findings)))
        self.assertEqual(len(suite.findall("testcase/failure")), sum(f.verdict is Verdict.FAIL for f in made.findings))
        self.assertEqual(suite.get("failures"), str(len(suite.findall("testcase/failure"))))


class Commands(Cli):
    def test_by_the_file_s_ending_and_what_cannot_be_written_is_said_first(self):
        self.file("a.flv", flv_bytes(4))
        for name, start in (("r.html", b"<!DOCTYPE html>"), ("r.pdf", b"%PDF-"), ("r.csv", b"time (s),video bitrate"), ("r.json", b"{")):
            result = self.direkt("check", "a.flv", "--sheet", "tarnlight", "--report", name, "--junit", "j.xml")
            self.assertEqual(result.code, 1, result)
            self.assertTrue((self.folder / name).read_bytes().startswith(start), name)
        self.assertEqual(etree.parse(self.folder / "j.xml").getroot().tag, "testsuites")
        self.assertEqual(json.loads((self.folder / "r.json").read_text())["schema"], "direkt.check/1")
        self.one_line(self.direkt("check", "a.flv", "--report", "no/r.html"), 2, "there is no folder no")
        self.assertEqual(self.direkt("check", "a.flv", "--report", "m.html").code, 0)
        self.assertIn("measured, not judged", (self.folder / "m.html").read_text())

    def test_plots_and_tables_slow_nobody_who_wants_none(self):
        self.file("a.flv", flv_bytes(4))
        told = "import sys; from direkt.cli.main import main\ntry: main()\nexcept SystemExit: pass\nprint(sorted({'matplotlib', 'pandas'} & set(sys.modules)), file=sys.stderr)"
        for arguments in (["check", "a.flv", "--sheet", "tarnlight"], ["--help"], ["check", "a.flv", "--report", "r.json"]):
            done = subprocess.run([sys.executable, "-c", told, *arguments], cwd=self.folder, capture_output=True, text=True, timeout=60)
            self.assertEqual(done.stderr.splitlines()[-1:], ["[]"], done)


if __name__ == "__main__":
    unittest.main()
