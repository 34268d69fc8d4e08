"""Makes docs/parameters.md from the table: ``python -m tests.parameters_page``. A test sees to it that it was done."""

from __future__ import annotations

from pathlib import Path

from direkt.parameters import TABLE, Parameter

PAGE = Path(__file__).resolve().parent.parent / "docs" / "parameters.md"

_HEAD = """\
# Parameters, and how each is measured

Made from the table in `src/direkt/parameters.py`; sheets, devices, findings and JSON all use its names, and
`direkt explain NAME` shows a row of it. A value that cannot be known from the input is absent from JSON and shown as
"not seen". Numbers that need time (a keyframe interval, a bitrate) come as soon as there is enough of it. A value can
have a bound ("at least 2 s") and an uncertainty. The last column says in what steps a number is given, and how far two
may lie apart and still be the same.
"""
_PARTS = (("video", "Pictures"), ("audio", "Sound"), ("stream", "The stream"))


def page() -> str:
    """The whole page."""
    out = [_HEAD]
    for first, title in _PARTS:
        out.append(
            f"\n## {title}\n\n| parameter | unit or values | what it is | how it is measured | given to; counts as equal |\n|---|---|---|---|---|\n"
        )
        out += [_line(row) for name, row in TABLE.items() if name.startswith(f"{first}.")]
    return "".join(out)


def _line(row: Parameter) -> str:
    values = row.unit or ", ".join(row.choices) or {"yes/no": "yes, no", "size": "px x px", "ratio": "such as 16:9", "version": "such as 4.1"}.get(row.kind, "number")  # fmt: skip
    return f"| {row.name} | {values} | {row.meaning} | {row.measured} | {_exactness(row)} |\n"


def _exactness(row: Parameter) -> str:
    """In what steps a number is given, and how far two may lie apart that count as one."""
    if row.kind != "number":
        return ""
    unit = f" {row.unit}" if row.unit else ""
    parts = [f"{10**-row.decimals:g}{unit}"]
    if row.resolution:
        parts.append(f"within {row.resolution:g}{unit}")
    if row.near:
        parts.append(f"within {row.near * 100:g} %")
    return "; ".join(parts)


if __name__ == "__main__":
    PAGE.write_text(page())
