"""Pairs of words that stand for true and for false, as databases, programs and people write them."""

from __future__ import annotations

from collections.abc import Set as AbstractSet

_PAIRS = (
    ("true", "false"), ("t", "f"), ("yes", "no"), ("y", "n"), ("1", "0"), ("1.0", "0.0"), ("on", "off"), ("-1", "0"),
    ("enabled", "disabled"), ("active", "inactive"), ("checked", "unchecked"), (".t.", ".f."), ("✓", "✗"), ("✔", "✘"),
    ("ja", "nein"), ("j", "n"), ("ja", "nee"), ("wahr", "falsch"), ("w", "f"), ("an", "aus"), ("ein", "aus"), ("aktiv", "inaktiv"),
    ("oui", "non"), ("o", "n"), ("vrai", "faux"), ("v", "f"),
    ("sì", "no"), ("si", "no"), ("sí", "no"), ("s", "n"), ("vero", "falso"), ("verdadero", "falso"), ("verdadeiro", "falso"),
    ("sim", "não"), ("sim", "nao"), ("waar", "onwaar"), ("ja", "nej"), ("ja", "nei"), ("sant", "falskt"),
    ("tak", "nie"), ("prawda", "fałsz"), ("ano", "ne"), ("áno", "nie"), ("igen", "nem"), ("evet", "hayır"), ("kyllä", "ei"),
    ("да", "нет"), ("истина", "ложь"), ("так", "ні"), ("ναι", "όχι"), ("是", "否"), ("はい", "いいえ"), ("예", "아니오"),
)  # fmt: skip
_SURE = frozenset(pair for pair in _PAIRS if len(pair[0]) + len(pair[1]) > 3 and pair[0] not in ("an", "ein")) | {
    ("t", "f"),
    ("y", "n"),
    ("1", "0"),
}
_MARKS = ("x", "✓", "✔", "1", "y", "yes", "ja", "oui", "true", "t", "*")
"""What is written where something is so, and nothing where it is not."""


def pair_of(words: AbstractSet[str], *, empty: bool) -> tuple[str, str] | None:
    """The words for true and for false in a column whose different values are ``words``, in small letters; "" for false where only one mark
    is written, and nothing otherwise (``empty``: whether there are such values). None where no pair is known to have all of them."""
    if len(words) == 1 and empty and (mark := next(iter(words))) in ("x", "✓", "✔", "*"):
        return mark, ""
    for true, false in _PAIRS:
        # one word alone says less: "s" may be anything
        if words == {true, false} or ((true, false) in _SURE and words <= {true, false}):
            return true, false
    if len(words) == 1 and (mark := next(iter(words))) in _MARKS:
        return mark, ""
    return None


def known_words(words: AbstractSet[str]) -> tuple[list[str], list[str]] | None:
    """Those of ``words`` that stand for true and those for false, where each is known and none for both; None otherwise."""
    true = {word for word in words if any(word == pair[0] for pair in _PAIRS)}
    false = {word for word in words if any(word == pair[1] for pair in _PAIRS)}
    if true & false or true | false != set(words):
        return None
    return sorted(true), sorted(false)
