"""What was pasted, as words: cleaned of what mails, pages and chats put around them, each with the label before it.

Everything that is taken out is said. A label is what stands before a colon or an equals sign in any language, and the
known words for a key or a server also without one. Nothing here decides what is a key: it only cuts.
"""

from __future__ import annotations

import html
import re
from dataclasses import dataclass, replace
from urllib.parse import unquote

from direkt.protocol.schemes import SCHEMES

_INVISIBLE = re.compile(r"[\u00ad\u180e\u200b-\u200f\u202a-\u202e\u2060-\u2064\ufeff\ufe0f]")
_QUOTES = dict.fromkeys(
    map(ord, "\"'`\u2018\u2019\u201a\u201b\u201c\u201d\u201e\u201f\u00ab\u00bb\u2039\u203a\u2032\u2033\uff02\uff07"),
    " ",
)
_WIDE = {
    ord("\uff1a"): ":", ord("\uff0f"): "/", ord("\uff0e"): ".", ord("\uff1f"): "?", ord("\uff06"): "&", ord("\uff1d"): "=",
    ord("\u2215"): "/", ord("\u2044"): "/",
}  # fmt: skip
_SPACES = {ord(c): " " for c in "\u00a0\t\u2002\u2003\u2009\u202f\u3000\x0b\x0c"} | {ord("\r"): "\n"}
_TAG = re.compile(
    r"</?(?:a|p|br|hr|td|th|tr|table|tbody|thead|div|span|li|ul|ol|dl|dt|dd|b|i|u|em|strong|code|pre|input|button|label|textarea|html|body|h[1-6]|"
    r"section|font|small|kbd|samp|tt|blockquote)\b[^<>]{0,2000}>",
    re.IGNORECASE,
)
_ELEMENT = re.compile(
    r"<(?!(?:a|p|td|th|tr|b|i|u|em|strong|code|pre|span|div|li)>)([A-Za-z][\w.-]{0,30})>([^<>]{0,2000})</\1>"
)
_HELD = re.compile(r"(?:href|value|data-[a-z-]{1,30})\s*=\s*(?:\"([^\"]{1,1000})\"|'([^']{1,1000})')", re.IGNORECASE)
_LINK = re.compile(r"!?\[([^\[\]\n]{0,300})\]\(\s*<?([^()\s<>]{1,1000})>?[^()\n]{0,100}\)")
_ENCODED = re.compile(
    r"(?i)\b[a-z][a-z0-9+.-]{1,8}%3a%2f%2f[^\s<>]+|\b[a-z0-9-]{1,63}(?:\.[a-z0-9-]{1,63})+(?:%3a\d+)?%2f[^\s?<>]+|\b[^\W\d_]+%3a(?=\s)"
)
_ANY_SCHEME = re.compile(r"(?i)[a-z][a-z0-9+.-]{1,12}:/{1,4}")
_ENCLOSED = re.compile(r"<[^<>\n:/]{1,60}>|\[[^\[\]\n:/]{1,60}\]|\$?\{[^{}\n:/]{1,60}\}")
# RFC 3986, appendix C: white space within angle brackets is no part of the address; taken out at its joints only
_JOINT = re.compile(r"(?<=[/.:=_~-])\s+|\s+(?=[/.:=_~-])")
_DELIMITED = re.compile(rf"(?i)<\s*((?:{'|'.join(SCHEMES)})\s?:[^<>]{{0,500}}/[^<>]{{0,500}})>")
_BRACKETED = re.compile(r"<([^<>\n]{0,500}/[^<>\n]{0,500})>")
_EMPHASIS = re.compile(r"(?<![\w*-])(\*\*|\*)(?=[^\s*])([^*\n]{0,300}[^\s*])\1(?![\w*-])")
_REMARK = re.compile(r"\(([^()\n]{0,200})\)")
_KEY_WORDS = re.compile(
    r"(?i)\b\w*(?:keys?|streamkey|streamname)\b|\w*(?:schlüssel|schluessel|sleutel|nyckel|nøgle|nøkkel|nokkel|avain|kulcs)\w*|\b(?:cl[ée]|clef|clave|llave|chiave|chave|klucz|klíč|kľúč|"
    r"klic|cheie|anahtar\w*|ключ\w*|κλειδί|token|geheimwort)\b|密钥|密鑰|金鑰|キー|スト키|스트림 키|키\b|\bstream[ _-]?(?:name|id|code)\b|\bstream[ _-]?key\b"
)
_SERVER_WORDS = re.compile(
    r"(?i)\b(?:server|url|uri|address|ingest|endpoint|destination|adresse|indirizzo|dirección|servidor|serveur|palvelin|сервер|adres|adress|host)\b|サーバ|服务器|伺服器|서버"
)
_OTHER_WORDS = re.compile(
    r"(?i)\b(?:user(?:name)?|login|password|passwort|mot de passe|contraseña|pin|title|titel|titre|event|date|datum|time|zeit|expires?|valid|until|phone|tel|mobile|mail|e-mail|"
    r"watch|viewer|page|status|app|application|port|channel|room|contact|subject|from|to|cc|id|resolution|bitrate|fps|codec|old|previous|former|example|beispiel|kontakt|betreff)\b"
)
# Keys of other locks, and other secrets than a key
_OTHER_SECRETS = re.compile(
    r"(?i)\b(?:api|licen[cs]e|lizenz|encryption|verschlüsselungs?|decryption|aes|ssh|gpg|pgp|wi-?fi|wlan|network|netzwerk|security|pre-?shared|product|produkt|serial|activation|recovery|"
    r"access|webhook|client|public|room|host|reader|viewer|viewing|watch|playback)[ _-]?(?:keys?|schlüssel|secret|token|code)\b|\bpass[ _-]?(?:phrase|code)\b|\bphrase secrète\b|\bkennwort\b|\bfrase (?:de paso|di accesso)\b"
)
_VIEWING = re.compile(r"(?i)\b(?:playback|play|player|pull|viewing|viewer|watch|wiedergabe|lecture|reproducción|riproduzione)\b")
PASSPHRASE = re.compile(r"(?i)\bpass[ _-]?phrase\b")
_BACKUP = re.compile(
    r"(?i)\b(?:back-?up|secondary|second|fall-?back|reserve|spare|ersatz\w*|secours|respaldo|riserva|standby|redundan\w*)\b|[_-]backup\b|\bbackup[_-]"
)
_PRIMARY = re.compile(
    r"(?i)\b(?:primary|main|principal\w*|haupt\w*|first|primär\w*|primaire|principale)\b|[_-]primary\b|\bprimary[_-]"
)
_COPULA = frozenset(
    ["is", "ist", "est", "es", "è", "er", "är", "on", "=", ":", "here", "hier", "->", "=>", "→", "-", "–", "—"]
)
_GLUED = re.compile(
    r"(?i)((?:[a-z]{0,12}[ _-]?)?(?:key|streamkey|stream_?name|url|server|address|ingest|token)|[^\x00-\x7f\W]{1,20}|[^\W\d_]{2,20}(?:schlüssel|sleutel|nyckel|avain))\s*[:=](?!/)(\S{2,})"
)  # "Key:abcd"


@dataclass(frozen=True, slots=True)
class Word:
    """A pasted word: which line it stood on, and what was said of it."""

    text: str
    line: int
    label: str = ""  # key, server, viewing, other, unknown; empty: none
    role: str = ""  # primary, backup
    alone: bool = False  # nothing else stands on its line


def words(text: str, repairs: list[str]) -> list[Word]:
    """The words of ``text``; what was taken out is added to ``repairs``."""
    clean = _clean(text, repairs)
    out: list[Word] = []
    before: list[str] = []  # the words since the last value: what may label the next one
    for number, line in enumerate(clean.split("\n")):
        begin = len(out)
        out += _line(line, number, before, repairs)
        if len(out) == begin + 1 and len(line.split()) == 1:
            out[-1] = replace(out[-1], alone=True)
    if _KEY_WORDS.search(" ".join(before)) and any(word.endswith((":", "=")) for word in before):
        out.append(Word("", -1, "key"))  # a label with nothing behind it
    return out


def flattened(text: str) -> str:
    """JSON and tables with a head as lines "primary stream key: ...": their names say what each value is. Anything else stays as it is."""
    import json

    bare = text.strip()
    if not (bare[:1] in "{[" and bare[-1:] in "}]"):
        return _rows(bare) or text
    try:
        data = json.loads(bare)
    except (ValueError, RecursionError):
        return text
    lines: list[str] = []
    waiting: list[tuple[str, object]] = [("", data)]
    while waiting and len(lines) < _MOST_LEAVES:
        label, value = waiting.pop(0)
        if isinstance(value, dict):
            waiting[:0] = [(f"{label} {_SEAM.sub(' ', str(name))}".strip(), inner) for name, inner in value.items()]
        elif isinstance(value, list):
            waiting[:0] = [(label, inner) for inner in value]
        elif isinstance(value, str) and value.strip() and "\n" not in value:
            lines.append(f"{label}: {value}" if label else value)
    return "\n".join(lines) or text


def _rows(text: str) -> str:
    """A table whose head names a server and a key, as lines, an empty one behind each row; empty where it is none."""
    lines = [line for line in text.split("\n") if line.strip() and not re.fullmatch(r"[\s|:+=-]+", line)]
    for sign in ("|", "\t", ";", ","):
        cells = [[cell.strip() for cell in (line.strip().strip("|") if sign == "|" else line).split(sign)] for line in lines]
        heads = cells[0] if cells else []
        if len(lines) < 2 or len(heads) < 2 or any(len(row) != len(heads) for row in cells) or any("://" in head for head in heads):
            continue
        if any(_KEY_WORDS.search(head) for head in heads) and (len(heads) > 2 or any(_SERVER_WORDS.search(head) for head in heads)):
            rows = ["\n".join(f"{head}: {cell}" for head, cell in zip(heads, row, strict=True) if cell) for row in cells[1:]]
            return "\n\n".join(rows)
    return ""


_MOST_LEAVES = 200
_SEAM = re.compile(r"[_.\s-]+|(?<=[a-z])(?=[A-Z])")


def is_plain_word(text: str) -> bool:
    """Whether a word says what stands beside it, or is one of any sentence: no name of a destination."""
    kinds = (_KEY_WORDS, _SERVER_WORDS, _OTHER_WORDS, _BACKUP, _PRIMARY)
    return text.lower() in _LEADS or text.lower() in _COMMON or any(kind.fullmatch(text) for kind in kinds)


_COMMON = frozenset(["other", "another", "each", "every", "some", "test", "live", "stream", "channel", "platform", "video", "audio", "camera", "website", "site"])


def said(repairs: list[str], text: str) -> None:
    """Adds a repair once."""
    if text not in repairs:
        repairs.append(text)


# Cleaning


def _clean(text: str, repairs: list[str]) -> str:
    if _INVISIBLE.search(text):
        said(repairs, "invisible characters removed")
        text = _INVISIBLE.sub("", text)
    if any(ord(c) in _WIDE for c in text):
        said(repairs, "wide or odd punctuation replaced")
        text = text.translate(_WIDE)
    text = text.replace("\r\n", "\n").translate(_SPACES)
    if re.search(r"[^\s=]=\n\S", text) and not re.search(
        r"(?im)^\s*[\w -]{1,20}=\n", text
    ):  # lines that a mail program cut
        said(repairs, "an address or key that was broken over lines is put together")
        text = re.sub(r"=\n", "", text).replace("=3D", "=")
    if re.search(r"(?m)^\s*>+ ", text):
        said(repairs, "a mail's quotation marks removed")
        text = re.sub(r"(?m)^\s*(?:>+ )+", "", text)
    if (plain := re.sub(r"(?i)\b(rtmps?)\s*:\s*[/\\]\s?[/\\]", r"\1://", text)) != text:
        said(repairs, "the slashes and colon after the scheme corrected")
        text = re.sub(r"(?i)rtmps?://\S*", lambda m: m[0].replace("\\", "/"), plain)
    text = _without_page(text, repairs)
    if (plain := text.translate(_QUOTES)) != text:
        said(repairs, "quotation marks removed")
        text = plain
    text = re.sub(r"(?<=[^\W_])(?:->|=>|→|➜)(?=\S)", ": ", text)  # "key->abcd"
    text = _ENCLOSED.sub(lambda m: "_".join(m[0].split()), text)  # a placeholder stays one word
    bare = _DELIMITED.sub(lambda m: f" {re.sub(_JOINT, '', m[1])} ", text)
    if (bare := _BRACKETED.sub(r" \1 ", bare)) != text:
        said(repairs, "angle brackets removed")
        text = bare
    text = _EMPHASIS.sub(r"\2", text)
    if text.removesuffix("\n") != text.strip():  # a line end behind it all is how standard input comes
        said(repairs, "spaces or line ends at the edges removed")
    return text.strip()


def _without_page(text: str, repairs: list[str]) -> str:
    """The text without what a page puts around it: elements, codes for signs, links, percent signs."""
    if _ELEMENT.search(text):
        said(repairs, "a page's own code removed")
        for _ in range(3):
            text = _ELEMENT.sub(r"\n\1: \2\n", text)
    if _TAG.search(text):
        said(repairs, "a page's own code removed")
        text = _TAG.sub(_tag, text)
    if "&" in text and (plain := html.unescape(text)) != text:
        said(repairs, "a page's codes for signs replaced")
        text = _TAG.sub(_tag, plain)
    if "](" in text:
        text, count = _LINK.subn(_link, text)
        if count:
            said(repairs, "links taken apart")
    if "%" in text:
        text, count = _ENCODED.subn(lambda m: unquote(m[0]), text)
        if count:
            said(repairs, "the percent signs of an encoded address replaced")
    return text


def _tag(match: re.Match[str]) -> str:
    """A tag is a line's end or nothing; an address or value in it is text."""
    held = [a or b for a, b in _HELD.findall(match[0])]
    kept = [value for value in held if "://" in value or re.fullmatch(r"(?i)[\w~!$.-]{8,}", value)]
    inline = re.match(r"(?i)</?(?:a|b|i|u|em|strong|code|span|font|small|kbd|samp|tt)\b", match[0])
    return (" " if inline else "\n") + " ".join(kept) + (" " if inline else "\n")


def _link(match: re.Match[str]) -> str:
    shown, target = match[1].strip(), match[2]
    if shown == target or not shown:
        return f" {target} "
    return f" {shown} {target} " if "://" in shown else f" {shown}: {target} "


# Cutting


def _line(line: str, number: int, before: list[str], repairs: list[str]) -> list[Word]:
    line = re.sub(r"^\s*(?:[-*+•–·▪]|\d{1,2}[.)]|\(?\d{1,2}\))\s+(?=\S)", "", line)  # a list's mark
    out: list[Word] = []
    pieces = _pieces(line)
    until = 0  # pieces that belong to a label with a colon
    for n, text in enumerate(pieces):
        if n >= until:
            until = _labelled_until(pieces, n)
        if n < until and not _REMARK.fullmatch(text):
            before.append(text)
            said(repairs, "the words around it removed")
        elif _REMARK.fullmatch(text):
            _remark(text, out, before)
        elif text in ("and", "&", "und", "et", "y", "e", "{", "}", "[", "]", "+", "|"):
            pass
        elif text.endswith((":", "=")) and "/" in text and "." in text:
            _value(text.rstrip(":="), number, before, out)
            before.append(text.rpartition("/")[2])
        elif padded(text):
            _value(text, number, before, out)
        elif text.endswith("=") and (glued := _GLUED.fullmatch(text)) and padded(glued[2]):
            said(repairs, "the words around it removed")
            before.append(f"{glued[1]}:")
            _value(glued[2], number, before, out)
        elif text.endswith((":", "=")) and not _ANY_SCHEME.search(text):
            before.append(text)
            said(repairs, "the words around it removed")
        elif (glued := _GLUED.fullmatch(text)) and not _ANY_SCHEME.match(text):
            said(repairs, "the words around it removed")
            before.append(f"{glued[1]}:")
            _value(glued[2], number, before, out)
        elif _is_label(text, before, more=n + 1 < len(pieces)):
            before.append(text)
        else:
            _value(text, number, before, out)
    return out


def padded(text: str) -> bool:
    """Whether a word is Base64 with its padding (RFC 4648, 4): its equals signs are its own, and no label's."""
    return re.fullmatch(r"[A-Za-z0-9+/_-]{6,}={1,2}", text) is not None and len(text) % 4 == 0 and re.search(r"\d|[a-z][A-Z]", text) is not None


def _pieces(line: str) -> list[str]:
    """Words; a bracket with several words is one, and a sign that sets off is a space."""
    line = re.sub(r"\s+([:=])(?=\s|$)", r"\1", line)  # "clé :"
    line = re.sub(r"(?<=\S)[;|](?=\s|$)|(?<=\s)[;|]|,(?=\s|$)", " ", line)
    line = re.sub(r"(?<=\S)[,;|](?=\S)", " ", line)
    out: list[str] = []
    at = 0
    for match in _REMARK.finditer(line):
        inner = match[1].strip()
        bare = " " not in inner and ("://" in inner or re.search(r"[\d~_]", inner) is not None)
        if match.start() and not line[match.start() - 1].isspace():
            continue  # a bracket within a word
        out += line[at : match.start()].split()
        held = bare or "/" in inner or any(len(part) > 7 and re.search(r"\d|\w[-_~]\w", part) for part in inner.split())
        out += inner.split() if held else [match[0]]
        at = match.end()
    return out + line[at:].split()


def _remark(text: str, out: list[Word], before: list[str]) -> None:
    """What stands in brackets says of the word before whether it is the backup; the rest is a remark."""
    role = "backup" if _BACKUP.search(text) else "primary" if _PRIMARY.search(text) else ""
    if role and out:
        out[-1] = replace(out[-1], role=role)
    elif role:
        before.append(text)
    elif before and not out:
        before.append("(remark)")


def _labelled_until(pieces: list[str], n: int) -> int:
    """Up to which piece a label goes on that ends in a colon: "Clé de diffusion:"."""
    for upto in range(n, min(len(pieces), n + 7)):
        text = pieces[upto]
        if _ANY_SCHEME.search(text) or ("/" in text and "." in text):
            break
        if padded(text) or ((glued := _GLUED.fullmatch(text)) and padded(glued[2])):
            break
        if text.endswith((":", "=")):
            return upto + 1
        if (
            not (
                re.fullmatch(r"[^\W\d_]+(?:['’./-][^\W\d_]+)*[.,]?|\d{1,2}|[^\W\d_]+\d{1,2}", text)
                or _REMARK.fullmatch(text)
            )
            or len(text) > 24
            or (text.isupper() and "-" in text)
        ):
            break
    return n


def _is_label(text: str, before: list[str], *, more: bool) -> bool:
    """Whether a word without a colon only names what comes: "key", "is", "server"."""
    low = text.lower().strip(".,!?")
    if low in _COPULA:
        return bool(before)
    if re.search(r"\d", text) or len(text) > 24 or not re.fullmatch(r"[^\W\d_]+(?:[-_/][^\W\d_]+)*", text):
        return False
    known = (
        _KEY_WORDS.fullmatch(text)
        or _SERVER_WORDS.fullmatch(text)
        or _BACKUP.fullmatch(text)
        or _PRIMARY.fullmatch(text)
    )
    if re.match(r"(?i)(?:your|my|insert|enter|paste)[_-]", text):
        return False  # a placeholder
    return bool(known) or (more and low in _LEADS)


_LEADS = frozenset(["the", "your", "my", "our", "stream", "streaming", "rtmp", "rtmps", "push", "publish", "live", "secret", "private", "der", "die", "das", "dein", "ihr", "export",
                    "set", "let", "const", "le", "la", "el", "il", "votre", "tu", "su", "server", "please", "use", "with", "for", "and", *SCHEMES])  # fmt: skip


def _value(text: str, number: int, before: list[str], out: list[Word]) -> None:
    label, role = _meaning(before)
    before.clear()
    out.append(Word(text, number, label, role))


def _meaning(before: list[str]) -> tuple[str, str]:
    """What the words before a value say of it."""
    if not before:
        return "", ""
    text = " ".join(before[-6:])
    role = "backup" if _BACKUP.search(text) else "primary" if _PRIMARY.search(text) else ""
    last = text.rpartition("(remark)")[2] or text
    if _OTHER_SECRETS.search(last):
        return "other", role
    if _VIEWING.search(last):
        return "viewing", role
    if _OTHER_WORDS.search(last) and not (
        _KEY_WORDS.search(last) and not re.search(r"(?i)\b(?:old|previous|former|example|beispiel)\b", last)
    ):
        return ("server" if _SERVER_WORDS.search(last) else "other"), role
    if _KEY_WORDS.search(text):
        return "key", role
    if _SERVER_WORDS.search(text):
        return "server", role
    return ("unknown" if any(word.endswith((":", "=")) for word in before) else ""), role
