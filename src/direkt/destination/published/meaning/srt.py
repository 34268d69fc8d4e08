"""Cells that tell whether SRT wants a passphrase, and what its stream id is to be."""

from __future__ import annotations

import re

from direkt.destination.published.meaning.reading import Claim, LeftWords, ParsedCell

TOPICS = ("srt.passphrase", "srt.stream_id")
_ANSWERS = {
    "required": r"required|mandatory|must be set|must|needed|obligatory|compulsory|always|erforderlich|pflicht|obligatoire|requise?|obligatorio|obligatoria|obbligatori[oa]|verplicht",
    "optional": r"optional|if (?:you like|wanted|desired)|facultati(?:f|ve)|opcional|facoltativ[oa]|optioneel|accepted|allowed|supported|possible|not required|not needed|not mandatory|nicht erforderlich",
    "refused": r"none|no|off|not used|unused|not supported|unsupported|not accepted|not allowed|must be empty|leave (?:it )?empty|leave blank|empty|keine?|aucune|ninguna|nessuna|geen",
}
_LONGEST = 100  # characters of a stream id


def parse(text: str, topic: str) -> ParsedCell:
    """What the cell says."""
    out = ParsedCell()
    words = " ".join(text.split()).strip(" .")
    if topic == "srt.passphrase":
        meant = [answer for answer, wording in _ANSWERS.items() if re.fullmatch(rf"(?:is |are )?(?:{wording})", words.lower())]
        if meant:
            out.claims.append(Claim(topic, "must", "is", meant[0], 0, len(text)))
        else:
            out.left.append(LeftWords(0, len(text), "is a passphrase required, optional or refused?"))
    elif not words or len(words) > _LONGEST or re.fullmatch(r"(?i)required|optional|mandatory|yes|no|supported|see .*", words):
        out.left.append(LeftWords(0, len(text), "does not say what the stream id is to be"))
    else:
        out.claims.append(Claim(topic, "must", "is", words, 0, len(text)))
    return out
