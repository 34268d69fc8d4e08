"""What stands where a key should stand and is none: masks, placeholders, words of buttons, dates, addresses."""

from __future__ import annotations

import re

SHORTEST = 4  # characters of a key, where no pattern says otherwise

_MASKS = frozenset("*•●∙·⋅○◦■▪.-_~ ")
_ENCLOSED = re.compile(r"\$?\{.*\}|<.*>|\[.*\]|\(.*\)|%[A-Za-z_ -]+%|\$[A-Za-z_]+")
_SHORTENED = re.compile(r"(\.{2,}|…)$|^(\.{2,}|…)|\w(\.{3,}|…)\w")
_DATE = re.compile(
    r"\d{4}[-./]\d{1,2}[-./]\d{1,2}([T_ ]?\d{1,2}[:.]\d{2}.*)?|\d{1,2}[-./]\d{1,2}[-./](\d{4}|\d{2})|\d{1,2}[:.h]\d{2}(:\d{2})?(am|pm|h|uhr)?",
    re.IGNORECASE,
)
_MAIL = re.compile(r"[^@\s/]+@[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)+")
_PHONE = re.compile(r"\+\d[\d().-]{5,}")
_PAGE = re.compile(
    r"(?:[a-z][a-z0-9+.-]*:)?//\S+|(?:https?|rtmps?|rtsps?|srt|wss?|ftp):/\S+|www\.\S+|[a-z0-9-]+(?:\.[a-z0-9-]+)+/\S*",
    re.IGNORECASE,
)
_FIELD = re.compile(r"[-_ .]+|(?<=[a-z])(?=[A-Z])")
# What is written in a key's place, or beside it on pages: as it is, or in parts such as your-stream-key
_WORDS = frozenset(["your", "my", "the", "a", "an", "this", "here", "insert", "enter", "paste", "put", "place", "add", "type", "fill", "in", "replace", "with", "me", "change", "key", "keys", "stream", "streamkey", "streamingkey", "streaming", "name", "code", "token", "secret", "password", "example", "sample", "test", "dummy", "placeholder", "value", "string", "tba", "tbd", "tbc", "todo", "none", "null", "nil", "na", "unknown", "pending", "later", "soon", "empty", "default", "hidden", "masked", "redacted", "private", "confidential", "invisible", "show", "hide", "reveal", "copy", "copied", "view", "see", "edit", "reset", "renew", "generate", "regenerate", "refresh", "save", "cancel", "ok", "done", "close", "more", "info", "help", "click", "tap", "press", "server", "url", "address", "rtmp", "rtmps", "ingest", "primary", "backup", "login", "user", "username", "email", "event", "live", "start", "stop", "go", "now", "geheim", "verborgen", "ausgeblendet", "kopieren", "kopiert", "anzeigen", "ausblenden", "schlüssel", "streamschlüssel", "dein", "ihr", "ihren", "hier", "einfügen", "folgt", "clé", "secrète", "masqué", "copier", "copié", "afficher", "voir", "votre", "ici", "clave", "oculta", "copiar", "copiado", "mostrar", "ver", "tu", "su", "aquí", "chiave", "nascosta", "copia", "mostra", "sleutel", "kopiëren", "tonen", "verborgen", "sleutel", "nyckel", "dold", "kopiera", "visa", "nøgle", "nøkkel", "skjult", "kopier", "vis", "avain", "piilotettu", "kopioi", "näytä", "chave", "oculta", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday", "today", "tomorrow", "tonight", "montag", "dienstag", "mittwoch", "donnerstag", "freitag", "samstag", "sonntag", "heute", "morgen", "lundi", "mardi", "mercredi", "jeudi", "vendredi", "samedi", "dimanche", "january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november", "december", "yes", "no", "true", "false", "on", "off", "and", "or", "is", "see", "attached", "below", "above", "following", "follows", "follow", "comes", "coming", "come", "sent", "send", "will", "be", "mailed", "by", "via", "mail", "sms", "post", "phone", "ask", "contact", "us", "office", "separately", "separate", "message", "chat", "dm", "kommt", "folgen", "später", "spaeter", "siehe", "unten", "oben", "separat", "nachgereicht", "suit", "suivra", "bientôt", "voir", "sigue", "pronto", "abajo", "segue", "sotto", "volgt", "zie", "required", "optional", "missing", "expired", "invalid", "revoked", "deleted", "offline", "online", "active", "inactive", "waiting", "ready", "not", "available", "yet", "set", "unset", "blank", "undefined", "changeme", "foo", "bar", "abcd", "asdf", "qwerty", "lorem", "ipsum"])  # fmt: skip


def is_mask(text: str) -> bool:
    """Whether it hides a key: dots, asterisks, or one letter again and again."""
    if re.search(r"[*•●∙■▪]{2,}", text):
        return True
    letters = [c for c in text if c not in _MASKS]
    return not letters or (len(set(map(str.lower, letters))) == 1 and len(letters) > 2 and len(text) > 3)


def why_no_key(text: str) -> str:
    """What ``text`` is instead of a key; empty where it may be one."""
    if is_mask(text):
        return "a mask: reveal the key at the platform, and copy it again"
    if _ENCLOSED.fullmatch(text):
        return "a placeholder, not the key itself"
    if _SHORTENED.search(text):
        return "cut short with dots: copy the whole key"
    parts = [part for part in _FIELD.split(text) if part]
    if all(
        part.lower().strip("/:,;!?") in _WORDS or part.lower() in ("n/a", "n", "x", "xxx", "xxxx") for part in parts
    ):
        return "a word from the page, not the key itself"
    if re.match(r"(?i)(?:your|insert|enter|paste)[_-]", text):
        return "a placeholder, not the key itself"
    if _DATE.fullmatch(text):
        return "a date or a time"
    if _MAIL.fullmatch(text):
        return "a mail address"
    if _PHONE.fullmatch(text):
        return "a telephone number"
    if _PAGE.fullmatch(text):
        return "another address"
    return f"too short: a key has at least {SHORTEST} characters" if len(text) < SHORTEST else ""


def slip_of(host: str, known: str) -> bool:
    """Whether a host's name is likely a mistyped other one: one letter is another, missing, too many, or two changed places.

    Numbers and labels of one or two letters (ingest2, b.ingest) are how servers are told apart, and no slips.
    """
    ours, theirs = host.split("."), known.split(".")
    if len(ours) != len(theirs):
        return len(ours) > 1 and _one_off(host, known)
    pairs = [(a, b) for a, b in zip(ours, theirs, strict=True) if a != b]
    if len(pairs) != 1 or min(map(len, pairs[0])) < 3:
        return False
    a, b = pairs[0]
    return _one_off(a, b) and re.sub(r"\d", "", a) != re.sub(r"\d", "", b)


def _one_off(a: str, b: str) -> bool:
    if a == b or abs(len(a) - len(b)) > 1:
        return False
    shared = next((n for n, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
    a, b = a[shared:], b[shared:]
    return a[1:] == b[1:] or a[1:] == b or a == b[1:] or (a[:2] == b[1::-1] and a[2:] == b[2:])
