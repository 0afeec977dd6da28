"""Values that PostgreSQL has and Arrow has not, as the server writes them: from the numbers that it sends."""

from __future__ import annotations

_DAY = 86_400_000_000
_EPOCH = 730_119  # days from 0001-01-01 to 2000-01-01, from which the server counts
_ERA = 146_097  # days of 400 years
_INFINITE = {2**31 - 1: "infinity", 2**63 - 1: "infinity", -(2**31): "-infinity", -(2**63): "-infinity"}


def _civil(days: int) -> tuple[str, str]:
    """Year, month and day, and what stands after them where the year is before Christ."""
    # any 400 years are alike: counted from a 1 March, a leap day comes last
    era, of_era = divmod(days + _EPOCH + 306, _ERA)
    of_year_era = (of_era - of_era // 1460 + of_era // 36_524 - of_era // 146_096) // 365
    of_year = of_era - (365 * of_year_era + of_year_era // 4 - of_year_era // 100)
    shifted = (5 * of_year + 2) // 153
    day = of_year - (153 * shifted + 2) // 5 + 1
    month = shifted + 3 if shifted < 10 else shifted - 9
    year = of_year_era + era * 400 + (month <= 2)
    shown, mark = (year, "") if year > 0 else (1 - year, " BC")
    return f"{shown:04d}-{month:02d}-{day:02d}", mark


def day_text(days: int, zone: str = "") -> str:
    """A date, from days since 2000-01-01."""
    return _INFINITE.get(days) or "".join(_civil(days))


def time_text(microseconds: int, zone: str = "") -> str:
    """A time of day; 24:00:00 is one here."""
    seconds, fraction = divmod(microseconds, 1_000_000)
    after = f".{fraction:06d}".rstrip("0") if fraction else ""
    return f"{seconds // 3600:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}{after}"


def moment_text(microseconds: int, zone: str = "") -> str:
    """A timestamp, from microseconds since 2000-01-01 00:00; ``zone`` stands after the time."""
    if word := _INFINITE.get(microseconds):
        return word
    days, time = divmod(microseconds, _DAY)
    day, mark = _civil(days)
    return f"{day} {time_text(time)}{zone}{mark}"
