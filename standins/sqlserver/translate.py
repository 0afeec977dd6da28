"""Transact-SQL statements as PostgreSQL's: queries, and statements that change rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from standins.sqlserver.tokens import SyntaxFault, Token
from standins.sqlserver.types import DEFAULT_COLLATION, Native

_HINTS = frozenset(
    ["NOLOCK", "HOLDLOCK", "UPDLOCK", "TABLOCK", "TABLOCKX", "XLOCK", "ROWLOCK", "PAGLOCK", "SERIALIZABLE", "READPAST", "READCOMMITTEDLOCK"]
)  # fmt: skip
_SETS = ("UNION", "EXCEPT", "INTERSECT")


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


def closing(found: Sequence[Token], opened: int) -> int:
    """The place of the parenthesis that closes the one at ``opened``."""
    depth = 0
    for place in range(opened, len(found)):
        depth += found[place].is_mark("(") - found[place].is_mark(")")
        if depth == 0:
            return place
    raise SyntaxFault("Incorrect syntax near ')'.")


def at_depth(found: Sequence[Token], *words: str, start: int = 0) -> int:
    """Where one of the words stands outside of all parentheses; -1 where none does."""
    depth = 0
    for place in range(start, len(found)):
        depth += found[place].is_mark("(") - found[place].is_mark(")")
        if depth == 0 and found[place].is_word(*words):
            return place
    return -1


def read_name(found: Sequence[Token], start: int) -> tuple[str, int]:
    """A name of one to three parts, quoted, and the place after it."""
    parts: list[str] = []
    place = start
    while place < len(found) and found[place].kind in ("word", "name"):
        token = found[place]
        parts.append(token.text if token.kind == "name" else token.written.lower())
        place += 1
        dots = 0
        while place < len(found) and found[place].is_mark("."):
            place, dots = place + 1, dots + 1
        if not dots:
            break
    if not parts:
        near = found[start].written if start < len(found) else ""
        raise SyntaxFault(f"Incorrect syntax near '{near}'.")
    if parts[-1].startswith("#"):
        parts = parts[-1:]
    return ".".join(map(quoted, parts[-2:])), place


def read_native(found: Sequence[Token], start: int) -> tuple[Native, int]:
    """A type, and the place after it."""
    token = found[start]
    if token.kind not in ("word", "name"):
        raise SyntaxFault(f"Incorrect syntax near '{token.written}'.")
    base, place = token.written.strip("[]").lower(), start + 1
    if base == "double":
        base, place = "float", place + 1
    base = {"integer": "int", "dec": "decimal", "character": "char", "timestamp": "rowversion"}.get(base, base)
    written = base
    if place < len(found) and found[place].is_mark("("):
        end = closing(found, place)
        written += "(" + "".join(item.written.lower() for item in found[place + 1 : end]) + ")"
        place = end + 1
    native = Native.parse(written)
    try:
        native.kept_as  # noqa: B018
    except KeyError:
        raise SyntaxFault(f"Type {base} is not a defined system type.") from None
    return native, place


def _cast(value: str, native: Native) -> str:
    if native.base in ("binary", "varbinary"):
        return f"as_bytes({value})"
    if native.base in ("char", "varchar"):
        return f"CAST(as_page({value}) AS {native.kept_as})"
    if native.base in ("nchar", "nvarchar") and not value.startswith("'"):
        value = f"as_unicode({value})"
    return f"CAST({value} AS {native.kept_as})"


class Translator:
    """Translates one statement; ``values`` are those of @-variables, ``locks`` the tables that hints lock."""

    def __init__(self, values: Mapping[str, str]) -> None:
        self._values = values
        self.locks: list[str] = []

    def statement(self, found: Sequence[Token]) -> str:
        match found[0].text:
            case "UPDATE":
                return self._update(found)
            case "DELETE":
                return self._delete(found)
            case "INSERT":
                return self._insert(found)
            case "SELECT" if (into := at_depth(found, "INTO")) > 0:
                name, after = read_name(found, into + 1)
                kept = "TEMPORARY TABLE" if name.startswith('"#') else "TABLE"
                return f"CREATE {kept} {name} AS {self.query([*found[:into], *found[after:]])}"
            case "WITH":
                return self.expression(found)
        return self.query(found)

    def query(self, found: Sequence[Token]) -> str:
        """A select, with what T-SQL writes as TOP at its end."""
        parts: list[str] = []
        start = 0
        while (end := at_depth(found, *_SETS, start=start)) >= 0:
            every = end + 1 < len(found) and found[end + 1].is_word("ALL")
            parts += [self._branch(found[start:end]), found[end].text + (" ALL" if every else "")]
            start = end + 1 + every
        if not parts:
            return self._select(found)
        return " ".join([*parts, self._branch(found[start:])])

    def _branch(self, found: Sequence[Token]) -> str:
        select = self._select(found)
        return f"({select})" if " LIMIT " in select else select

    def _select(self, found: Sequence[Token]) -> str:
        place = 1
        if place < len(found) and found[place].is_word("DISTINCT", "ALL"):
            place += 1
        if not (found and found[0].is_word("SELECT") and place < len(found) and found[place].is_word("TOP")):
            return self.expression(found)
        if found[place + 1].is_mark("("):
            end = closing(found, place + 1)
            limit, after = self.expression(found[place + 2 : end]), end + 1
        else:
            limit, after = found[place + 1].written, place + 2
        return f"{self.expression([*found[:place], *found[after:]])} LIMIT {limit}"

    def expression(self, found: Sequence[Token]) -> str:
        written: list[str] = []
        place = 0
        while place < len(found):
            place = self._next(found, place, written)
        return " ".join(written)

    def _next(self, found: Sequence[Token], place: int, written: list[str]) -> int:
        token = found[place]
        after = found[place + 1] if place + 1 < len(found) else None
        if token.is_mark("("):
            end = closing(found, place)
            inside = found[place + 1 : end]
            body = self.query(inside) if inside and inside[0].is_word("SELECT") else self.expression(inside)
            written.append(f"({body})")
            return end + 1
        if token.is_word("WITH") and after is not None and after.is_mark("(") and found[place + 2].is_word(*_HINTS):
            return self._hints(found, place, written)
        if token.is_word("CAST", "TRY_CAST") and after is not None and after.is_mark("("):
            end = closing(found, place + 1)
            inside = found[place + 2 : end]
            cut = max(number for number, item in enumerate(inside) if item.is_word("AS"))
            written.append(_cast(self.expression(inside[:cut]), read_native(inside, cut + 1)[0]))
            return end + 1
        if token.is_word("CONVERT") and after is not None and after.is_mark("("):
            end = closing(found, place + 1)
            native, start = read_native(found, place + 2)
            written.append(_cast(self.expression(found[start + 1 : end]), native))
            return end + 1
        if (
            token.is_word("CHANGETABLE")
            and after is not None
            and after.is_mark("(")
            and found[place + 2].is_word("CHANGES")
        ):
            end = closing(found, place + 1)
            name, start = read_name(found, place + 3)
            whole = name if "." in name else f'"dbo".{name}'
            shown = quoted(whole.replace('"."', ".").strip('"'))
            written.append(f"tsql_changes.{shown}({self.expression(found[start + 1 : end])})")
            return end + 1
        if token.is_word("COLLATE") and after is not None:
            name = DEFAULT_COLLATION if after.text.upper() == "DATABASE_DEFAULT" else after.written.strip("[]")
            written.append(f"COLLATE {quoted(name)}")
            return place + 2
        if token.is_mark(".") and after is not None and after.is_word("TOSTRING", "STASTEXT"):
            return place + 4  # what it is kept as is its text
        if token.is_word("LIKE"):
            # PostgreSQL has no patterns for collations that fold case
            exact = written and "BIN2" in written[-1]
            written.append('COLLATE "C" LIKE' if exact else 'COLLATE "C" ILIKE')
            return place + 1
        written.append(self._plain(token))
        return place + 1

    def _plain(self, token: Token) -> str:
        match token.kind:
            case "name":
                return quoted(token.text)
            case "text":
                return text(token.text)
            case "hex":
                return f"'\\x{token.text[2:]}'::bytea"
            case "variable":
                if (name := token.text.upper()) not in self._values:
                    raise SyntaxFault(f'Must declare the scalar variable "{token.text}".')
                return self._values[name]
        return "<>" if token.text == "!=" else token.written

    def _hints(self, found: Sequence[Token], place: int, written: list[str]) -> int:
        end = closing(found, place + 1)
        hints = {item.text for item in found[place + 2 : end]}
        if "TABLOCKX" in hints or {"TABLOCK", "UPDLOCK"} <= hints or {"TABLOCK", "XLOCK"} <= hints:
            # the table before the hint, whose alias may stand between
            names = [
                number for number, item in enumerate(found[:place]) if item.is_word("FROM", "JOIN", "INTO", "UPDATE")
            ]
            if names:
                self.locks.append(read_name(found, names[-1] + 1)[0])
        return end + 1

    def _update(self, found: Sequence[Token]) -> str:
        start = at_depth(found, "SET")
        source, where = at_depth(found, "FROM"), at_depth(found, "WHERE")
        target, after = read_name(found, 1)
        settings = self.expression(found[start + 1 : min(item for item in (source, where, len(found)) if item > 0)])
        if source < 0:
            alias = self.expression(found[after:start])
            return f"UPDATE {target} {alias} SET {settings}" + (
                f" {self.expression(found[where:])}" if where > 0 else ""
            )
        own, others, condition = self._sources(found[source + 1 : where if where > 0 else len(found)])
        conditions = [condition] if condition else []
        conditions += [f"({self.expression(found[where + 1 :])})"] if where > 0 else []
        return (
            f"UPDATE {own} SET {settings}"
            + (f" FROM {others}" if others else "")
            + (f" WHERE {' AND '.join(conditions)}" if conditions else "")
        )

    def _delete(self, found: Sequence[Token]) -> str:
        where, source = at_depth(found, "WHERE"), at_depth(found, "FROM")
        rest = f" {self.expression(found[where:])}" if where > 0 else ""
        if source == 1:
            return f"DELETE FROM {self.expression(found[2 : where if where > 0 else len(found)])}{rest}"
        if source < 0:
            return f"DELETE FROM {self.expression(found[1 : where if where > 0 else len(found)])}{rest}"
        own, others, condition = self._sources(found[source + 1 : where if where > 0 else len(found)])
        conditions = [condition] if condition else []
        conditions += [f"({self.expression(found[where + 1 :])})"] if where > 0 else []
        return (
            f"DELETE FROM {own}"
            + (f" USING {others}" if others else "")
            + (f" WHERE {' AND '.join(conditions)}" if conditions else "")
        )

    def _sources(self, found: Sequence[Token]) -> tuple[str, str, str]:
        """The table that is changed, what it is joined with, and by which condition."""
        join = at_depth(found, "JOIN")
        if join < 0:
            return self.expression(found), "", ""
        first = found[: join - 1] if found[join - 1].is_word("INNER") else found[:join]
        on = at_depth(found, "ON", start=join)
        if at_depth(found, "JOIN", start=on) > 0:
            raise SyntaxFault("This stand-in joins two tables in UPDATE and DELETE, and no more.")
        return self.expression(first), self.expression(found[join + 1 : on]), f"({self.expression(found[on + 1 :])})"

    def _insert(self, found: Sequence[Token]) -> str:
        place = 2 if found[1].is_word("INTO") else 1
        table, after = read_name(found, place)
        rest = self.expression(found[:1]) and found[after:]
        columns = ""
        written: list[str] = []
        if rest and rest[0].is_word("WITH") and rest[1].is_mark("("):
            self._hints(found, after, written)
            rest = rest[closing(rest, 1) + 1 :]
        if rest and rest[0].is_mark("(") and not rest[1].is_word("SELECT"):
            end = closing(rest, 0)
            columns, rest = f"({self.expression(rest[1:end])})", rest[end + 1 :]
        if rest and rest[0].is_word("DEFAULT"):
            return f"INSERT INTO {table} DEFAULT VALUES"
        body = self.query(rest) if rest and rest[0].is_word("SELECT") else self.expression(rest)
        return f"INSERT INTO {table} {columns} {body}"
