"""The account of a leg's rows."""

from __future__ import annotations

from dataclasses import asdict, dataclass


@dataclass
class Tally:
    """Every row read is in exactly one of the others."""

    read: int = 0
    filtered: int = 0
    rejected: int = 0
    repeated: int = 0
    inserted: int = 0
    updated: int = 0
    unchanged: int = 0

    @property
    def accounted(self) -> int:
        return self.filtered + self.rejected + self.repeated + self.inserted + self.updated + self.unchanged

    @property
    def adds_up(self) -> bool:
        return self.read == self.accounted

    def as_dict(self) -> dict[str, int]:
        return asdict(self)
