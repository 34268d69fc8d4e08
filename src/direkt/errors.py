"""The one tree of errors. Every error that a person can do something about is a DirektError.

Its two branches say whose turn it is: UnusableInput, what was given cannot be used; NoAnswer, a device, server or
network does not answer or refuses. The command line turns each branch into its exit code.
"""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from direkt import mask

if TYPE_CHECKING:
    import ssl


class DirektError(Exception):
    """Its text is one clear line: what is wrong, where, and what to do next. No secret in use is in it, whoever wrote the words."""

    def __init__(self, *arguments: object) -> None:
        super().__init__(*(mask.own(one) if isinstance(one, str) else one for one in arguments))


class UnusableInput(DirektError):
    """Wrong use, or a file that cannot be used."""


class Malformed(UnusableInput):
    """Bytes that break the standard they claim to follow; the text says where."""


class NoAnswer(DirektError):
    """A device, server or network that does not answer or refuses."""


def os_words(error: OSError) -> str:
    """The system's words for an error, in small letters and without those of libraries."""
    import socket
    import ssl

    if isinstance(error, ssl.SSLError):
        return tls_words(error)
    if isinstance(error, socket.gaierror):
        return "its name is unknown here"
    if error.errno:
        return os.strerror(error.errno).lower()
    if "Multiple exceptions" in str(error):
        return "no address of it answers"
    return str(error).lower() or type(error).__name__


# OpenSSL's X509_V_ERR_* codes
_CERTIFICATE_WORDS = {
    9: "the certificate is not valid yet, or this machine's clock is slow",
    10: "the certificate has expired, or this machine's clock is fast",
    18: "the certificate is self-signed",
    19: "the certificate's chain ends in an unknown authority",
    20: "the certificate's authority is unknown here",
    21: "the certificate's chain is incomplete",
    62: "the certificate is for another name",
    64: "the certificate is for another address",
}
_NOT_TLS = ("WRONG_VERSION_NUMBER", "HTTP_REQUEST", "RECORD_LAYER_FAILURE", "PACKET_LENGTH_TOO_LONG")


def tls_words(error: ssl.SSLError) -> str:
    """What a TLS error means."""
    import ssl

    if isinstance(error, ssl.SSLCertVerificationError):
        return _CERTIFICATE_WORDS.get(error.verify_code, error.verify_message.lower())
    if error.reason in _NOT_TLS:
        return "what answers there does not speak TLS"
    return (error.reason or str(error)).lower().replace("_", " ")
