"""The setup card as a web page that holds all it needs: one sheet of A4 on paper, one column on a phone."""

from __future__ import annotations

import base64
import html
import io
import itertools

from direkt.report.card import Card, CardStep, groups, marked

_STYLE = """
:root { color-scheme: light; } * { box-sizing: border-box; }
body { margin: 0 auto; padding: 1rem; max-width: 50rem; font: 15px/1.35 system-ui, sans-serif; color: #181c20; background: #fff; }
h1 { font-size: 1.5rem; margin: 0; } h2 { font-size: .85rem; letter-spacing: .08em; text-transform: uppercase; margin: 1.1rem 0 .3rem; color: #444; }
p { margin: .2rem 0; } .sub { color: #444; } ul, ol { list-style: none; margin: 0; padding: 0; }
li { display: flex; gap: .6rem; padding: .28rem 0; border-top: 1px solid #ddd; break-inside: avoid; }
li::before { content: ""; flex: none; width: 1em; height: 1em; margin-top: .15em; border: 1.5px solid #181c20; border-radius: 2px; }
.path { color: #444; } .value { font-weight: 700; } .mean { color: #444; }
.typed { font: 700 1.05rem/1.2 ui-monospace, "DejaVu Sans Mono", Menlo, Consolas, monospace; overflow-wrap: anywhere; }
.cells { display: flex; flex-wrap: wrap; gap: .15rem .5rem; margin: .25rem 0; } .group { display: inline-flex; }
.cell { min-width: 1.25em; text-align: center; border: 1px solid #888; border-left-width: 0; padding: .1em .15em; line-height: 1.1; }
.group .cell:first-child { border-left-width: 1px; }
.cell i { display: block; font: normal 400 7.5pt/1 system-ui, sans-serif; max-width: 5.5em; margin: .1em auto 0; } .odd { background: #ffefc2; }
.warn { border: 2px solid #b01818; padding: .4rem .6rem; margin: .5rem 0; } .code { display: flex; gap: 1rem; align-items: center; flex-wrap: wrap; }
.code img { width: 14rem; max-width: 100%; image-rendering: pixelated; }
@media print { @page { size: A4; margin: 11mm; } body { padding: 0; max-width: none; font-size: 9.5pt; } li { padding: .12rem 0; } h2 { margin: .5rem 0 .1rem; } .code img { width: 40mm; } .odd { print-color-adjust: exact; } }
"""


def page(card: Card) -> str:
    """One HTML document; it loads nothing from anywhere."""
    body = [
        f"<h1>{_e(card.feed)}: {_e(card.device)}</h1>", f"<p class=sub>{_e(card.model)} &rarr; {_e(card.destination)}</p>",
        f"<p class=sub>{_e(card.rig)}; made {_e(card.made)}</p>",
        *(f"<p class=warn><b>Cannot be met:</b> {_e(w)}</p>" for w in card.warnings),
    ]  # fmt: skip
    if card.before:
        body.append(_list("Before", card.before))
    body.append("<h2>Enter, in this order</h2><ol>" + "".join(_step(step) for step in card.steps) + "</ol>")
    if card.look_alikes:
        told = ", ".join(f"<b>{_e(c)}</b> {_e(name)}" for c, name in card.look_alikes)
        body.append(f"<p class=mean>Easily mistaken: {told}</p>")
    if card.facts:
        body.append(f"<p class=mean>It always sends: {_e(', '.join(f.text for f in card.facts))}</p>")
    if card.code or card.code_note:
        image = (
            f'<img alt="picture code" src="data:image/png;base64,{base64.b64encode(_code_png(card.code)).decode()}">'
            if card.code
            else ""
        )
        body.append(f"<div class=code>{image}<p>{_e(card.code_note)}</p></div>")
    if card.after:
        body.append(_list("After", card.after))
    head = '<meta charset=utf-8><meta name=viewport content="width=device-width, initial-scale=1">'
    title = f"{card.feed}: {card.device}"
    return f"<!doctype html><html lang=en><head>{head}<title>{_e(title)}</title><style>{_STYLE}</style></head><body>{''.join(body)}</body></html>\n"


def _e(words: str) -> str:
    return html.escape(words)


def _list(title: str, words: tuple[str, ...]) -> str:
    return f"<h2>{title}</h2><ul>" + "".join(f"<li><span>{_e(word)}</span></li>" for word in words) + "</ul>"


def _step(step: CardStep) -> str:
    path = f"<div class=path>{_e(' > '.join(step.path))}</div>"
    long = f"<div class=warn>{step.complaint}</div>" if step.too_long else ""
    if step.hidden:
        return f"<li><div>{path}<div class=mean>({_e(step.hidden)})</div>{long}</div></li>"
    if step.kind != "type":
        mean = f" <span class=mean>({_e(step.meaning)})</span>" if step.meaning else ""
        return f"<li><div>{path}<span class=value>{_e(step.value)}</span>{mean}</div></li>"
    named = marked(step.value)
    cells = "".join(
        f"<span class=group>{''.join(_cell(*pair) for pair in itertools.islice(named, len(group)))}</span>"
        for group in groups(step.value)
    )
    return (
        f"<li><div>{path}<div class=typed>{_e(step.value)}</div><div class='cells typed'>{cells}</div>{long}</div></li>"
    )


def _cell(character: str, name: str) -> str:
    shown = "&nbsp;" if character == " " else _e(character)
    return f"<span class='cell{' odd' if name else ''}'>{shown}<i>{_e(name) or '&nbsp;'}</i></span>"


def _code_png(content: str, scale: int = 6) -> bytes:
    import segno

    out = io.BytesIO()
    segno.make(content, error="m", boost_error=False, micro=False).save(out, kind="png", scale=scale, border=4)
    return out.getvalue()
