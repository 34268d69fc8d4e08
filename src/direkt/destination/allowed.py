"""What the references of a rig may reach, by whether a person trusts it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace


@dataclass(frozen=True, slots=True)
class Trust:
    """What a rig may do."""

    commands: bool = False  # start programs, read files with secrets outside its folder, take keys kept for other rigs
    environment: frozenset[str] | None = frozenset()  # variables it may see; None: all
    changed: bool = False  # it was trusted, and is not what it was
    rig: str = ""  # its file

    def sees(self, name: str) -> bool:
        """Whether it may see an environment variable."""
        return self.environment is None or name in self.environment

    def seeing(self, names: Iterable[str]) -> Trust:
        """The same, and these variables may be seen as well."""
        return self if self.environment is None else replace(self, environment=self.environment.union(names))
