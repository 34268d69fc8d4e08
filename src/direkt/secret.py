"""A login or stream key that prints masked."""

from __future__ import annotations


class Secret:
    """A login or key. Its text is its first two characters and its length; only reveal() gives it out."""

    __slots__ = ("_value",)

    def __init__(self, value: str) -> None:
        self._value = value

    def reveal(self) -> str:
        """The secret itself: for the wire, never for a message."""
        return self._value

    def __str__(self) -> str:
        return f"{self._value[:2]}… ({len(self._value)} characters)"

    def __repr__(self) -> str:
        return f"Secret({self})"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and self._value == other._value

    def __hash__(self) -> int:
        return hash(self._value)

    def __len__(self) -> int:
        return len(self._value)
