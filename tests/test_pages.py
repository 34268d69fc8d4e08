"""The pages hang together: each link leads somewhere, each picture is shown, and no sentence of the README is too long."""

import re
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PAGES = [ROOT / "README.md", ROOT / "SECURITY.md", *sorted((ROOT / "docs").glob("*.md"))]
_LINK = re.compile(r"\]\(([^)#\s]+)")


class Pages(unittest.TestCase):
    def test_each_link_leads_somewhere_and_each_picture_is_shown(self):
        shown = set()
        for page in PAGES:
            for link in _LINK.findall(page.read_text()):
                if "://" not in link and not link.startswith("mailto:"):
                    target = (page.parent / link).resolve()
                    self.assertTrue(target.exists(), f"{page.name}: {link}")
                    shown.add(target)
        self.assertEqual(set((ROOT / "docs" / "screenshots").glob("*.png")) - shown, set())

    def test_the_readme_is_short(self):
        text = (ROOT / "README.md").read_text()
        self.assertLess(text.count("\n"), 110)
        prose = re.sub(r"```.*?```|^ {4}.*$|^[|#!-].*$", "", text, flags=re.DOTALL | re.MULTILINE)
        for sentence in re.split(r"(?<=[.:])\s", prose):
            self.assertLessEqual(len(sentence.split()), 25, sentence)


if __name__ == "__main__":
    unittest.main()
