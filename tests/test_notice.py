"""NOTICE, the lock and what is installed fit each other."""

import re
import tomllib
import unittest
from pathlib import Path

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

from tests import notice_page

ROOT = Path(__file__).resolve().parent.parent


class Supply(unittest.TestCase):
    def test_the_notice_names_all_that_is_installed(self):
        named = {line.split()[0] for line in notice_page.PAGE.read_text("utf-8").splitlines() if re.match(r"[a-z0-9-]+ {2,}\S", line)}
        self.assertEqual(set(notice_page.installed()) - named, set(), "run: python -m tests.notice_page")
        self.assertGreater(len(named), 30)

    def test_every_dependency_is_bounded_and_locked_with_hashes(self):
        project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
        lock = (ROOT / "requirements.lock").read_text()
        pinned = {canonicalize_name(name) for name in re.findall(r"^([\w.-]+)==", lock, re.M)}
        entries = re.split(r"\n(?=\S)", lock.strip())
        self.assertTrue(all("--hash=sha256:" in entry for entry in entries), "each with a hash")
        self.assertNotRegex(lock, r"://")
        calendar = {"regex", "tzdata"}  # whose numbers are years
        for text in [*project["dependencies"], *(one for extra in project["optional-dependencies"].values() for one in extra)]:
            one = Requirement(text)
            self.assertIn(canonicalize_name(one.name), pinned, text)
            if one.name not in calendar and not one.name.startswith(("types-", "lxml-stubs")):
                self.assertIn("<", str(one.specifier), text)


if __name__ == "__main__":
    unittest.main()
