"""What is known of a column's values while they are counted."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

from ultravect.core.model.date_patterns import order_of
from ultravect.core.types.inference.candidates import Candidate
from ultravect.core.types.text_formats import TextFormats

SURE_DIGITS = 15
"""Any decimal number of so many digits is the same again after it was a double."""
MEASURED_DECIMALS = 9
"""Measured numbers may have so many decimals; amounts have fewer."""


@dataclass
class ColumnEvidence:
    """How many values a column has, what was noticed among them, and the ways to read them.

    ``leading_zeros``, ``beyond_64_bits`` and ``unlike_double`` are the first such value, after its row.
    ``may_be_null``: how often which word was found that may mean NULL.
    ``looked``: whether the candidates were chosen, which the first values do.
    """

    formats: TextFormats
    values: int = 0
    nulls: int = 0
    longest: int = 0
    leading_zeros: tuple[int, str] | None = None
    beyond_64_bits: tuple[int, str] | None = None
    unlike_double: tuple[int, str] | None = None
    integer_digits: int = 0
    decimals: int = 0
    has_exponent: bool = False
    only_as_double: bool = False
    may_be_null: Counter[str] = field(default_factory=Counter)
    looked: bool = False
    candidates: list[Candidate] = field(default_factory=list)

    @property
    def is_settled(self) -> bool:
        """Whether it is text, whatever else comes."""
        return bool(self.leading_zeros or self.beyond_64_bits or (self.looked and not self.candidates))

    def sure(self) -> Candidate | None:
        """The narrowest way to read all values, when it has no rival and they are not a code."""
        if self.leading_zeros or self.beyond_64_bits or self.may_be_null:
            return None
        best = self.best()
        if best is None or best.proposes or self.rival(best) or (best.type.name == "double" and self.unlike_double):
            return None
        return best

    def rival(self, best: Candidate) -> Candidate | None:
        """Another way to read dates, with day and month in the other order."""
        if best.pattern is None:
            return None
        others = (item for item in self.whole() if item.type == best.type and item.pattern)
        return next((other for other in others if order_of(other.pattern or "") != order_of(best.pattern)), None)

    def whole(self) -> list[Candidate]:
        """The ways to read the column in which all its values are read."""
        return [candidate for candidate in self.candidates if candidate.misfits == 0 and candidate.matched]

    def best(self) -> Candidate | None:
        """The narrowest of these; of numbers with a fraction, the double that they are, or the decimal."""
        whole = self.whole()
        if not whole or whole[0].type.name != "decimal" or whole[0].proposes:
            return whole[0] if whole else None
        double = next((item for item in whole if item.type.name == "double"), None)
        return double if double and self.is_measured else whole[0]

    @property
    def is_measured(self) -> bool:
        """An exponent is the sign of a measured number, which no exact decimal should pretend to be; and so do as many digits as doubles
        are written with."""
        if self.has_exponent or self.only_as_double:
            return True
        long = self.decimals >= MEASURED_DECIMALS and self.integer_digits + self.decimals > SURE_DIGITS
        return long and self.unlike_double is None
