"""Makes NOTICE from what is installed: ``python -m tests.notice_page``. A test sees to it that nothing is missing there."""

from __future__ import annotations

import importlib.metadata as metadata
import re
from pathlib import Path

from packaging.requirements import Requirement

PAGE = Path(__file__).resolve().parent.parent / "NOTICE"
EXTRAS = ("", "page", "postgresql")
_HEAD = """\
Direkt
Licensed under the Apache License, Version 2.0 (LICENSE).

The typefaces in src/direkt/report/faces are DejaVu 2.37, under the licence that lies beside them (Bitstream Vera, public domain changes).

What is installed with Direkt, by name and licence. Each is its authors' work, unchanged, and comes from the package index, not from here.
Those under the LGPL are linked to as libraries: any of them can be replaced by a changed one in the environment.

"""
_KNOWN = {"MIT License": "MIT", "BSD License": "BSD", "Apache Software License": "Apache-2.0", "Python Software Foundation License": "PSF-2.0"}


def installed() -> dict[str, str]:
    """The packages that come along, and the licence of each."""
    out: dict[str, str] = {}
    waiting = [Requirement(text) for text in metadata.requires("direkt") or []]
    waiting = [one for one in waiting if any(one.marker is None or one.marker.evaluate({"extra": extra}) for extra in EXTRAS)]
    while waiting:
        one = waiting.pop()
        name = re.sub(r"[-_.]+", "-", one.name).lower()
        if name in out:
            continue
        try:
            found = metadata.metadata(name)
        except metadata.PackageNotFoundError:
            continue  # for another system, or another Python
        out[name] = licence(found)
        for text in metadata.requires(name) or []:
            more = Requirement(text)
            if more.marker is None or any(more.marker.evaluate({"extra": extra}) for extra in ("", *one.extras)):
                waiting.append(more)
    return out


def licence(found: metadata.PackageMetadata) -> str:
    """What a package says of its licence, on one line."""
    told = found.get("License-Expression") or ""
    if not told:
        classes = [line.rpartition(" :: ")[2] for line in found.get_all("Classifier") or [] if line.startswith("License ::")]
        told = ", ".join(_KNOWN.get(one, one) for one in classes if one != "OSI Approved")
    return told or (found.get("License") or "not told").strip().split("\n")[0][:60]


def page() -> str:
    """The whole file."""
    lines = installed()
    width = max(map(len, lines))
    return _HEAD + "".join(f"{name:<{width}}  {lines[name]}\n" for name in sorted(lines))


if __name__ == "__main__":
    PAGE.write_text(page(), "utf-8")
