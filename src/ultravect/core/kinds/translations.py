"""The translation table: every native type of a dialect, what it is here, and what it becomes in the others."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass

from ultravect.core.kinds.registry import dialects
from ultravect.core.types.canonical import CanonicalType, Fit

_TEXT = CanonicalType("text")


@dataclass(frozen=True)
class TranslationRow:
    """``canonical`` "" where a native type has none: it is copied as its text."""

    source: str
    native: str
    canonical: str
    target: str
    becomes: str
    fit: str
    change: str

    def as_dict(self) -> Mapping[str, str]:
        return asdict(self)


def translations(source: str | None = None, target: str | None = None) -> Iterator[TranslationRow]:
    """The rows of the table, for one dialect or all on either side."""
    for name, dialect in dialects().items():
        if source not in (None, name):
            continue
        for native in dialect.natives:
            kind = dialect.to_canonical(native)
            for other, into in dialects().items():
                if target not in (None, other):
                    continue
                if kind is None:
                    text = into.from_canonical(_TEXT)
                    yield TranslationRow(name, native, "", other, text.native, Fit.DIFFERENT, "copied as its text")
                    continue
                found = into.from_canonical(kind)
                yield TranslationRow(name, native, str(kind), other, found.native, found.fit, found.change)


def translation_page() -> str:
    """The table as a page of the documentation."""
    lines = [
        "# Types across dialects",
        "",
        "Made from the same tables that jobs use; `ultravect types` prints them, too. Each native type, the canonical type",
        "it is read as, and what a new column becomes in each database. Fits: **exact**: same values, same meaning;",
        "**wider**: every value fits, the type is not the same; **narrower**: some values may not fit, each row is tested",
        "and misfits are rejects; **different**: the meaning changes, as it says. There are no connections to Oracle in this",
        "version: its types are by its documentation.",
    ]
    for name, dialect in dialects().items():
        others = list(dialects())
        lines += [
            "",
            f"## From {name}",
            "",
            f"| native | canonical | {' | '.join(f'in {other}' for other in others)} |",
        ]
        lines.append("|---" * (2 + len(others)) + "|")
        for native in dialect.natives:
            rows = [row for row in translations(name) if row.native == native]
            cells = [
                f"`{row.becomes}`" + ("" if row.fit == Fit.EXACT else f" {row.fit}: {row.change}") for row in rows
            ]
            lines.append(f"| `{native}` | {rows[0].canonical or 'none'} | {' | '.join(cells)} |")
    return "\n".join(lines) + "\n"
