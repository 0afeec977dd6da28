"""Reads statements in a database's own SQL as tokens: where comments, texts and names begin and end, and which words are left.

It distinguishes one statement from several, and says what a statement is by its words. What a statement *may* do is then decided by how
it is run. Time grows with the length of the text alone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import islice

MAX_LENGTH = 200_000
TAKEN = frozenset(
    [
        "INSERT", "UPDATE", "DELETE", "MERGE", "TRUNCATE", "ANALYZE", "SELECT", "WITH", "COMMENT ON",
        "CREATE TABLE", "CREATE TEMP TABLE", "CREATE TEMPORARY TABLE", "CREATE VIEW", "CREATE OR REPLACE VIEW", "CREATE INDEX",
        "CREATE UNIQUE INDEX", "CREATE SCHEMA", "DROP TABLE", "DROP VIEW", "DROP INDEX", "ALTER TABLE", "ALTER VIEW", "ALTER INDEX",
    ]
)  # fmt: skip
"""What a job's own statements may begin with in any database."""

# where a statement may follow another one without a semicolon, these begin one that is not taken, wherever they stand
_BEGIN_OTHERS = frozenset(
    [
        "BACKUP", "BULK", "CHECKPOINT", "CREATE", "DBCC", "DECLARE", "DENY", "DISABLE", "DUMP", "ENABLE", "EXEC", "EXECUTE", "GOTO",
        "GRANT", "IF", "KILL", "LOAD", "OPENDATASOURCE", "OPENQUERY", "OPENROWSET", "OPENXML", "PRINT", "RAISERROR", "RECONFIGURE",
        "RESTORE", "RETURN", "REVERT", "REVOKE", "SETUSER", "SHUTDOWN", "THROW", "TRUNCATE", "USE", "WAITFOR", "WHILE",
    ]
)  # fmt: skip
_CHANGES = frozenset(["DROP", "ALTER"])
_OF_A_TABLE = frozenset(["COLUMN", "CONSTRAINT", "PERIOD"])
VERBS = _BEGIN_OTHERS | {
    "ALTER", "ATTACH", "CALL", "CHANGE", "COPY", "CREATE", "DELETE", "DELIMITER", "DETACH", "DISCARD", "DO", "DROP", "EXPORT", "FLUSH", "FORCE",
    "GET", "HANDLER", "IMPORT", "INSERT", "INSTALL", "LIST", "LISTEN", "MERGE", "PRAGMA", "PREPARE", "PURGE", "PUT", "REMOVE", "RENAME",
    "REPLACE", "RESET", "SECURITY", "SELECT", "SET", "SHOW", "STOP", "UNINSTALL", "UNLOAD", "UPDATE", "VACUUM", "WITH",
}  # fmt: skip
"""What statements of databases begin with; another word is a typing error."""

CALLS = ("CALL", "EXEC", "EXECUTE")


@dataclass(frozen=True)
class Lexical:
    """How a dialect writes comments, texts and quoted names, beyond ``--``, ``/* */``, ``'…'`` and ``"…"``."""

    nested_comments: bool = False
    open_comments: bool = False
    """Whether a comment may end with the text."""

    hash_comments: bool = False
    spaced_dashes: bool = False
    """Whether ``--`` begins a comment only before white space."""

    executable_comments: bool = False
    backslashes: bool = False
    """Whether a backslash escapes in every text; else only in those that start with E, where there are such."""

    escaped_texts: bool = False
    dollar_quotes: bool = False
    backticks: bool = False
    brackets: bool = False
    doubled_brackets: bool = False
    """Whether a closing bracket in a name is written twice."""

    runs_on: bool = False
    """Whether a statement may follow another one without a semicolon."""


@dataclass(frozen=True)
class Token:
    """``kind``: word (its text in upper case), mark, text, name, or executable (a comment that is carried out)."""

    kind: str
    text: str
    start: int
    end: int


class NotReadable(ValueError):
    """Text that is no statement: a quote or a comment is not closed, or it is too long. The message completes "it …"."""


@dataclass(frozen=True)
class Statement:
    """One statement: its tokens without comments, and its text without what stands around them."""

    tokens: Sequence[Token]
    text: str

    @property
    def words(self) -> Iterator[str]:
        return (token.text for token in self.tokens if token.kind == "word")

    @property
    def first(self) -> str:
        """The first word, also after opening parentheses; "" where it begins with something else."""
        for token in self.tokens:
            if token.kind == "word":
                return token.text
            if token.text != "(":
                return ""
        return ""

    def starts_with(self, phrase: str) -> bool:
        """Whether its first words are those of ``phrase``."""
        wanted = phrase.split()
        return [token.text for token in islice(self.tokens, len(wanted)) if token.kind == "word"] == wanted

    def any_of(self, phrases: Iterable[str]) -> str:
        """The one of ``phrases`` that it starts with, "" where it starts with none."""
        return next((phrase for phrase in sorted(phrases) if self.starts_with(phrase)), "")

    def refusal(self, takes: Iterable[str], refused: Iterable[str], lexical: Lexical, *, calls: bool) -> str:
        """The words by which it is none of the statements that a job may run, "" where it is one; ``calls``: whether it may call a procedure."""
        allowed = self.any_of(takes)
        if calls and not allowed:
            allowed = self._call
        words = list(self.words)
        if not allowed:
            return " ".join(words[:2]) or self.text[:20]
        if self.is_executable:
            return self.text[:20]
        if found := next((word for word in words if word in refused), ""):
            return found
        return self._another(words, len(allowed.split())) if lexical.runs_on else ""

    @property
    def _call(self) -> str:
        """The word with which it calls a procedure by its name; "" where it does not: a text, or an account, is no procedure."""
        named = next(islice(self.tokens, 1, None), None)
        called = named is not None and named.kind in ("word", "name") and named.text != "AS"
        return self.any_of(CALLS) if called else ""

    @staticmethod
    def _another(words: Sequence[str], first: int) -> str:
        """The word with which another statement begins in this one, or a setting is changed."""
        settings = words.count("SET") - words.count("UPDATE") + (words[:2] == ["UPDATE", "STATISTICS"])
        for place, word in enumerate(words):
            if place < first:
                continue
            after = words[place + 1] if place + 1 < len(words) else ""
            if word in _BEGIN_OTHERS or (word in _CHANGES and after not in _OF_A_TABLE):
                return word
        return "SET" if settings > 0 else ""

    @property
    def balanced(self) -> bool:
        """Whether every parenthesis is closed after it was opened, so that the statement may stand inside others."""
        depth = 0
        for token in self.tokens:
            if token.kind == "mark":
                depth += (token.text == "(") - (token.text == ")")
                if depth < 0:
                    return False
        return depth == 0

    @property
    def is_executable(self) -> bool:
        return any(token.kind == "executable" for token in self.tokens)


def statements(sql: str, lexical: Lexical) -> list[Statement]:
    """The statements of a text; NotReadable where it is none."""
    if len(sql) > MAX_LENGTH:
        raise NotReadable(f"has {len(sql):,} characters, more than {MAX_LENGTH:,}")
    found: list[Statement] = []
    tokens: list[Token] = []
    for token in (*_tokens(sql, lexical), Token("mark", ";", len(sql), len(sql))):
        if token.kind == "mark" and token.text == ";":
            if tokens:
                found.append(Statement(tokens, sql[tokens[0].start : tokens[-1].end]))
            tokens = []
        else:
            tokens.append(token)
    return found


def _tokens(sql: str, lexical: Lexical) -> Iterator[Token]:
    at, size = 0, len(sql)
    while at < size:
        character = sql[at]
        if character.isspace() or character == "\0":
            at += 1
            continue
        end = _comment(sql, at, lexical)
        if end is not None:
            if lexical.executable_comments and sql.startswith(("/*!", "/*M!"), at):
                yield Token("executable", sql[at:end], at, end)
            at = end
            continue
        kind, end = _token(sql, at, lexical)
        text = sql[at:end]
        yield Token(kind, text.upper() if kind == "word" else text, at, end)
        at = end


def _comment(sql: str, at: int, lexical: Lexical) -> int | None:
    """Where a comment that begins here ends; None where none begins."""
    if sql.startswith("--", at) and (
        not lexical.spaced_dashes or at + 2 >= len(sql) or sql[at + 2].isspace() or ord(sql[at + 2]) < 32
    ):
        return _line_end(sql, at)
    if sql[at] == "#" and lexical.hash_comments:
        return _line_end(sql, at)
    if not sql.startswith("/*", at):
        return None
    depth, here = 1, at + 2
    while depth:
        closing = sql.find("*/", here)
        if closing < 0:
            if lexical.open_comments:
                return len(sql)
            raise NotReadable("has a comment that is not closed")
        opening = sql.find("/*", here, closing) if lexical.nested_comments else -1
        depth, here = (depth + 1, opening + 2) if opening >= 0 else (depth - 1, closing + 2)
    return here


def _line_end(sql: str, at: int) -> int:
    end = sql.find("\n", at)
    return len(sql) if end < 0 else end + 1


def _token(sql: str, at: int, lexical: Lexical) -> tuple[str, int]:
    character = sql[at]
    if character == "'":
        return "text", _quoted(sql, at, lexical.backslashes)
    if character == '"':
        return "name", _quoted(sql, at, lexical.backslashes)
    if character == "`" and lexical.backticks:
        return "name", _quoted(sql, at, False)
    if character == "[" and lexical.brackets:
        end = sql.find("]", at)
        while end >= 0 and lexical.doubled_brackets and sql.startswith("]]", end):
            end = sql.find("]", end + 2)
        if end < 0:
            raise NotReadable("has a name that is not closed")
        return "name", end + 1
    if character == "$" and lexical.dollar_quotes:
        end = _while(sql, at + 1, _is_word)
        if sql.startswith("$", end):
            mark = sql[at : end + 1]
            closing = sql.find(mark, end + 1)
            if closing < 0:
                raise NotReadable(f"has a text that is not closed by {mark}")
            return "text", closing + len(mark)
    if _is_word(character):
        end = _while(sql, at, _is_word_or_dollar)
        if sql.startswith("'", end) and end - at == 1 and character in "eE" and lexical.escaped_texts:
            return "text", _quoted(sql, end, True)
        return "word", end
    return "mark", at + 1


def _is_word(character: str) -> bool:
    return character.isalnum() or character == "_" or character > "\x7f"


def _is_word_or_dollar(character: str) -> bool:
    return _is_word(character) or character == "$"


def _while(sql: str, at: int, fits: Callable[[str], bool]) -> int:
    while at < len(sql) and fits(sql[at]):
        at += 1
    return at


def _quoted(sql: str, at: int, backslashes: bool) -> int:
    """The end of a text or a name that begins with its quote here; a doubled quote is one of its characters."""
    quote, here = sql[at], at + 1
    while True:
        end = sql.find(quote, here)
        if backslashes and (escape := sql.find("\\", here, None if end < 0 else end)) >= 0:
            here = escape + 2
            continue
        if end < 0:
            raise NotReadable(f"has a {quote} that is not closed")
        if sql.startswith(quote, end + 1):
            here = end + 2
            continue
        return end + 1
