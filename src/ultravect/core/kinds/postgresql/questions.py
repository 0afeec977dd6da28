"""Which statements are questions."""

from __future__ import annotations

from ultravect.core.dialects.statements import Statement

# COPY … TO and DO can write even where a transaction is read-only
BY_CURSOR = frozenset(["SELECT", "WITH", "VALUES", "TABLE"])
READING = BY_CURSOR | {"SHOW", "EXPLAIN"}


def explained_word(question: Statement) -> str:
    """The first word of the statement whose plan is asked for."""
    depth = 0
    for token in question.tokens[1:]:
        if token.kind == "mark" and token.text in "()":
            depth += 1 if token.text == "(" else -1
        elif token.kind == "word" and token.text in BY_CURSOR:
            return token.text
        elif not depth and not (token.kind == "word" and token.text in ("ANALYZE", "VERBOSE")):
            break
    return ""
