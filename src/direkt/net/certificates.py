"""A certificate made on the spot, for rehearsals over TLS."""

from __future__ import annotations

import datetime
import ipaddress
import os
import ssl
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID


@dataclass(frozen=True, slots=True)
class Certificate:
    """A server's TLS context with its self-signed certificate."""

    context: ssl.SSLContext
    fingerprint: str  # SHA-256, as devices show it
    pem: bytes  # the certificate, for those who want to trust it


def make(names: Sequence[str], *, begin: datetime.datetime | None = None, days: float = 7) -> Certificate:
    """A certificate for host names and addresses, valid from a day before now (or ``begin``) for ``days``."""
    key = ec.generate_private_key(ec.SECP256R1())
    begin = begin or datetime.datetime.now(datetime.UTC) - datetime.timedelta(days=1)
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Direkt rehearsal")])
    built = (
        x509.CertificateBuilder().subject_name(subject).issuer_name(subject).public_key(key.public_key())
        .serial_number(x509.random_serial_number()).not_valid_before(begin)
        .not_valid_after(begin + datetime.timedelta(days=days))
        .add_extension(x509.SubjectAlternativeName([_name(name) for name in dict.fromkeys(names)]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    pem = built.public_bytes(serialization.Encoding.PEM)
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    with tempfile.TemporaryDirectory() as folder:  # mode 0700; the private key is on disk for a moment only
        path = Path(folder) / "both.pem"
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT, 0o600)
        with os.fdopen(descriptor, "wb") as file:
            file.write(private + pem)
        context.load_cert_chain(path)
    return Certificate(context, built.fingerprint(hashes.SHA256()).hex(":").upper(), pem)


def _name(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(name.strip("[]")))
    except ValueError:
        return x509.DNSName(name)


def unchecked() -> ssl.SSLContext:
    """Takes any certificate: towards a receiver of our own in the same process."""
    context = ssl.SSLContext(
        ssl.PROTOCOL_TLS_CLIENT
    )  # the system's authorities, which take long to read, are not asked
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


def days_left(host: str, port: int, now: datetime.datetime, limit: float = 5.0) -> float | None:
    """Days until a server's certificate ends, below 0 where it has; None: it shows none within ``limit`` s."""
    try:
        pem = ssl.get_server_certificate((host, port), timeout=limit)
        ends = x509.load_pem_x509_certificate(pem.encode()).not_valid_after_utc
    except (OSError, ValueError):
        return None
    return (ends - now).total_seconds() / 86400
