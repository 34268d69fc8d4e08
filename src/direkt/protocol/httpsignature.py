"""Signed HTTP requests: HTTP Message Signatures (RFC 9421) with HMAC-SHA-256, over a digest of the content (RFC 9530)."""

from __future__ import annotations

import base64
import hashlib
import hmac
from collections.abc import Mapping, Sequence

COVERED = ("@method", "@target-uri", "content-type", "content-digest")


def content_digest(body: bytes) -> str:
    """The Content-Digest field (RFC 9530, 2)."""
    return f"sha-256=:{base64.b64encode(hashlib.sha256(body).digest()).decode()}:"


def parameters(covered: Sequence[str], created: int, key_id: str) -> str:
    """What a signature covers and when it was made, as Signature-Input has it (RFC 9421, 2.3)."""
    names = " ".join(f'"{name}"' for name in covered)
    return f'({names});created={created};keyid={string(key_id)};alg="hmac-sha256"'


def string(text: str) -> str:
    """A string of structured fields (RFC 9651, 3.3.3), which are ASCII: other characters as URLs write them (RFC 3986, 2.1)."""
    plain = "".join(c if " " <= c <= "~" and c != "%" else "".join(f"%{b:02X}" for b in c.encode("utf-8", "replace")) for c in text)
    escaped = plain.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def base(values: Sequence[tuple[str, str]], params: str) -> bytes:
    """What is signed (RFC 9421, 2.5); ``values``: each covered component with its value."""
    lines = [f'"{name}": {value}' for name, value in values]
    return "\n".join([*lines, f'"@signature-params": {params}']).encode("ascii")


def sign(key: bytes, signed: bytes) -> str:
    """The signature, as the Signature field has it between colons (RFC 9421, 3.3.3)."""
    return base64.b64encode(hmac.new(key, signed, hashlib.sha256).digest()).decode()


def signed_fields(
    method: str, url: str, body: bytes, kind: str, key: bytes, created: int, key_id: str
) -> Mapping[str, str]:
    """The header fields of a signed request. ``url`` is ASCII, as it is sent."""
    digest, params = content_digest(body), parameters(COVERED, created, key_id)
    signed = base(
        [("@method", method), ("@target-uri", url), ("content-type", kind), ("content-digest", digest)], params
    )
    return {
        "Content-Type": kind, "Content-Digest": digest, "Signature-Input": f"direkt={params}",
        "Signature": f"direkt=:{sign(key, signed)}:",
    }  # fmt: skip
