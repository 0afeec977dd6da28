"""Transact-SQL as tokens, and where statements begin."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

_TOKEN = re.compile(
    r"""
    (?P<space>\s+|--[^\n]*|/\*.*?\*/)
  | (?P<text>N?'(?:[^']|'')*')
  | (?P<bracketed>\[(?:[^\]]|\]\])*\])
  | (?P<quoted>"(?:[^"]|"")*")
  | (?P<hex>0x[0-9A-Fa-f]*)
  | (?P<number>\d+(?:\.\d*)?(?:[eE][+-]?\d+)?|\.\d+)
  | (?P<variable>@@?\w+)
  | (?P<word>[^\W\d]\w*|\#\#?\w+)
  | (?P<mark><=|>=|<>|!=|\|\||.)
    """,
    re.S | re.X,
)
# words that begin a statement where none is open, so that no semicolon is needed
STARTS = frozenset(
    [
        "SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "ALTER", "DROP", "TRUNCATE", "BEGIN", "COMMIT", "ROLLBACK", "SAVE",
        "SET", "EXEC", "EXECUTE", "USE", "GRANT", "DENY", "REVOKE", "WAITFOR", "WITH",
    ]
)  # fmt: skip


class SyntaxFault(Exception):
    """Text that is no statement; the message says near what."""


@dataclass(frozen=True)
class Token:
    """``kind``: text, name, hex, number, variable, word or mark; ``text`` is the value of a text or a name, a word in upper case."""

    kind: str
    text: str
    written: str

    def is_word(self, *words: str) -> bool:
        return self.kind == "word" and self.text in words

    def is_mark(self, mark: str) -> bool:
        return self.kind == "mark" and self.text == mark


def tokens(sql: str) -> list[Token]:
    found = []
    for match in _TOKEN.finditer(sql):
        kind, written = str(match.lastgroup), match.group()
        if kind == "space":
            continue
        if kind == "text":
            found.append(Token("text", written[written.index("'") + 1 : -1].replace("''", "'"), written))
        elif kind in ("bracketed", "quoted"):
            closing = written[-1]
            found.append(Token("name", written[1:-1].replace(closing * 2, closing), written))
        elif kind == "word":
            temporary = written.startswith("#")
            found.append(Token("name" if temporary else "word", written if temporary else written.upper(), written))
        elif written in ("'", '"', "["):
            raise SyntaxFault(f"Unclosed quotation mark after the character string '{sql[match.end() :][:40]}'.")
        else:
            found.append(Token(kind, written, written))
    return found


def statements(found: Sequence[Token]) -> Iterator[list[Token]]:
    """Divides a batch: at semicolons, and where a word begins a statement that cannot be part of the one before it."""
    current: list[Token] = []
    depth = 0
    for place, token in enumerate(found):
        if token.is_mark(";") and depth == 0:
            if current:
                yield current
            current = []
            continue
        depth += token.is_mark("(") - token.is_mark(")")
        starts = depth == 0 and token.is_word(*STARTS)
        if current and starts and _begins(current, token, found[place + 1 : place + 2]):
            yield current
            current = []
        current.append(token)
    if current:
        yield current


def _begins(current: Sequence[Token], token: Token, after: Sequence[Token]) -> bool:
    first, last = current[0].text, current[-1]
    if token.text == "SELECT":
        # a select that belongs to INSERT, CREATE VIEW, WITH or a set operation
        inside = last.is_word("UNION", "ALL", "EXCEPT", "INTERSECT", "AS") or last.is_mark(")")
        return not (inside or (first in ("INSERT", "WITH") and not any(item.is_word("SELECT") for item in current)))
    if token.text == "SET":
        return first not in ("UPDATE", "ALTER")
    if token.text == "WITH":
        return not (after and after[0].is_mark("(")) and first not in (
            "CREATE",
            "INSERT",
            "SELECT",
            "UPDATE",
            "DELETE",
        )
    if first in ("GRANT", "DENY", "REVOKE", "CREATE", "ALTER") or (first == "WITH" and token.text != "SET"):
        return False
    return not (token.text in ("UPDATE", "DELETE") and last.is_word("ON"))
