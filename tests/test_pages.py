"""The pages hang together: each link leads somewhere, each picture is shown, and no sentence of the README is too long."""

import re
import shlex
import tempfile
import unittest
from pathlib import Path

import click

from direkt.cli.main import cli
from tests import site_pages

ROOT = Path(__file__).resolve().parent.parent
PAGES = [ROOT / "README.md", ROOT / "SECURITY.md", *sorted((ROOT / "docs").rglob("*.md"))]
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

    def test_the_site_has_every_page_and_what_they_say_can_be_typed(self):
        site = (ROOT / "mkdocs.yml").read_text()
        pages = sorted((ROOT / "docs").rglob("*.md"))
        for page in pages:
            self.assertIn(f"- {page.relative_to(ROOT / 'docs').as_posix()}\n", site)
        for page in [*pages, ROOT / "README.md"]:
            for line in re.findall(r"^ {4}(?:\$ )?direkt (.+)$", page.read_text(), re.M):
                command, words = cli, shlex.split(line, comments=True)
                while words and isinstance(command, click.Group) and (inner := command.get_command(click.Context(command), words[0])) is not None:
                    command, words = inner, words[1:]
                self.assertNotIsInstance(command, click.Group, (page.name, line))
                known = {option for one in command.params for option in (*one.opts, *one.secondary_opts)}
                for word in words:
                    if word.startswith("--"):
                        self.assertIn(word.partition("=")[0], known, (page.name, line))

    def test_the_reference_names_every_command(self):
        with tempfile.TemporaryDirectory() as folder:
            site_pages.make(Path(folder) / "site")
            text = (Path(folder) / "site/reference/commands.md").read_text()
            self.assertIn("# direkt sheet draft\n", text)
            self.assertIn("| <code>--climb</code>", text)
            self.assertIn("## NotifyEntry", (Path(folder) / "site/reference/rig.md").read_text())


if __name__ == "__main__":
    unittest.main()
