"""A destination with everything that a push needs, and the forms in which devices take one."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from direkt.protocol.address import ServerAddress

Form = Literal["url", "url+key", "parts"]


@dataclass(frozen=True, slots=True)
class Endpoint:
    """A destination with everything that a push needs."""

    server: ServerAddress
    stream: str = field(repr=False)  # the key, with its query arguments
    user: str = ""
    password: str = field(default="", repr=False)
