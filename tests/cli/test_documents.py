"""The JSON documents: each keeps the shape that its version 1 has had from the beginning."""

from __future__ import annotations

import json
import unittest

from direkt.cli.documents import documents
from direkt.cli.schema import made_of
from tests.cli.document_shapes import KEPT, shape


class Shapes(unittest.TestCase):
    def test_each_document_has_the_shape_that_was_kept(self) -> None:
        kept = json.loads(KEPT.read_text("utf-8"))
        self.assertEqual(sorted(kept), sorted(documents()))
        for name in kept:
            with self.subTest(document=name):
                self.assertEqual(shape(made_of(name)), kept[name])


if __name__ == "__main__":
    unittest.main()
