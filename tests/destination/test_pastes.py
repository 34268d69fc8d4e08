"""Pastes from the outside world: what a careful colleague is certain of is taken, and nothing else is."""

import re
import unittest

from direkt.destination.paste import PasteError, untangle
from direkt.protocol import address
from tests.destination.pastes import PASTES, REFUSED, SETUPS


def read(setup, text):
    """Server, key, and everything said; REFUSED where it is refused or asked about."""
    pattern, known, ports = SETUPS[setup]
    try:
        found = untangle(text, pattern=pattern, known=[address.parse(k) for k in known], ports=ports)
    except PasteError as error:
        return REFUSED, "", str(error)
    if found.questions:
        return REFUSED, "", " ".join(found.questions)
    return str(found.server or ""), found.key or "", " ".join((*found.repairs, *found.left))


class Pastes(unittest.TestCase):
    def test_what_a_colleague_makes_of_them(self):
        self.assertGreaterEqual(len(PASTES), 200)
        for setup, text, server, key, words in PASTES:
            with self.subTest(paste=text, setup=setup):
                found = read(setup, text)
                self.assertEqual(found[:2], (server, key), found[2])
                self.assertTrue(re.search(words, found[2]), found[2])
                for part in ("a1b2", "c3d4", "heron", "A1B2"):  # no word of it may hold the key
                    self.assertNotIn(part, found[2])


if __name__ == "__main__":
    wrong = over = silent = 0
    for setup, text, server, key, words in PASTES:
        found = read(setup, text)
        if found[:2] != (server, key) or not re.search(words, found[2]):
            kind = "refused" if found[0] == REFUSED else "WRONG" if found[:2] != (server, key) else "unsaid"
            print(f"{kind:8} {setup:6} {text!r}\n         got {found}\n         wanted {(server, key, words)}")
            wrong += 1
    print(len(PASTES) - wrong, "of", len(PASTES))
