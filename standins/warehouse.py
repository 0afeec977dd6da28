"""A stand-in for a warehouse that loads from an object store: a proxy in front of PostgreSQL, with the folder of our object store.

It passes on whatever a client and PostgreSQL say to each other, but for COPY … FROM 's3://…' and UNLOAD … TO 's3://…', and COPY INTO from
and to a named stage, which it carries out itself. Keys are forgotten where a table is created, as if they were declared and not enforced.
Types and settings of the form with stages are put in PostgreSQL's words, and names without quotes mean those in upper case that there are.
"""

from __future__ import annotations

import argparse
import io
import json
import re
import socket
import struct
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from urllib.parse import urlsplit

import psycopg
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pv
import pyarrow.parquet as pq

from standins.proxy import Proxy, ProxyServer, exactly, message

_COPY = re.compile(
    r"^\s*COPY\s+(?P<table>\S+)\s+FROM\s+'(?P<url>s3://(?:[^']|'')+)'\s+(?P<options>.*?)\bFORMAT AS PARQUET\s+MANIFEST\s*$",
    re.S | re.I,
)
_UNLOAD = re.compile(
    r"^\s*UNLOAD\s+\(\s*'(?P<query>(?:[^']|'')*)'\s*\)\s+TO\s+'(?P<url>s3://(?:[^']|'')+)'\s+"
    r"(?P<options>.*?)\bFORMAT AS PARQUET MANIFEST VERBOSE\s*$",
    re.S | re.I,
)
_COPY_INTO = re.compile(
    r"^\s*COPY INTO\s+(?P<table>[^\s(]+)\s*\((?P<columns>[^)]*)\)\s+FROM\s+\(SELECT (?P<values>.*?) FROM @(?P<stage>[\w.$]+)/(?P<path>[^\s)]*)\)\s+"
    r"FILES = \((?P<files>[^)]*)\)\s+FILE_FORMAT = \(TYPE = PARQUET\) ON_ERROR = ABORT_STATEMENT\s*$",
    re.S,
)
_COPY_OUT = re.compile(
    r"^\s*COPY INTO\s+@(?P<stage>[\w.$]+)/(?P<path>\S*)\s+FROM \((?P<query>.*)\) FILE_FORMAT = \(TYPE = PARQUET\) HEADER = TRUE "
    r"DETAILED_OUTPUT = TRUE\s*$",
    re.S,
)
_LIST = re.compile(r"^\s*LIST @(?P<stage>[\w.$]+)/(?P<path>\S*)\s*$")
_FIELD = re.compile(r'\$1:"((?:[^"]|"")+)"')
_WORDS = re.compile(r"""'(?:[^']|'')*'|"(?:[^"]|"")*"|[A-Za-z_][\w$]*""")
_STATEMENT_TIME = re.compile(r"^ALTER SESSION SET STATEMENT_TIMEOUT_IN_SECONDS = (\d+)$")
_PRECISION = re.compile(r"\b(TIMESTAMP_(?:NTZ|LTZ|TZ)|BINARY)\(\d+\)", re.I)
_TYPE_NAMES = frozenset(
    [
        "DATE",
        "TIME",
        "BOOLEAN",
        "FLOAT",
        "VARCHAR",
        "VARIANT",
        "TIMESTAMP",
        "TIMESTAMP_NTZ",
        "TIMESTAMP_LTZ",
        "TIMESTAMP_TZ",
    ]
)
_IN_POSTGRESQL = {"NUMBER": "numeric", "BINARY": "bytea"}
_UPPER_NAMES = """
SELECT n.nspname FROM pg_namespace n WHERE n.nspname ~ '[A-Z]'
UNION SELECT c.relname FROM pg_class c WHERE c.relname ~ '[A-Z]'
UNION SELECT a.attname FROM pg_attribute a WHERE a.attname ~ '[A-Z]' AND a.attnum > 0
"""
_KEY = re.compile(r"ACCESS_KEY_ID\s+'([^']*)'\s+SECRET_ACCESS_KEY\s+'([^']*)'", re.I)
_ROLE = re.compile(r"IAM_ROLE\s+'([^']*)'", re.I)
_PRIMARY = re.compile(r",\s*PRIMARY KEY \([^()]*\)(?=\s*\)$)")
_ARRANGED = re.compile(
    r"\n(DISTSTYLE (ALL|EVEN)|DISTKEY \([^()]*\)|COMPOUND SORTKEY \([^()]*\)|CLUSTER BY \([^()]*\))(?=\n|$)"
)
_ENCODED = re.compile(r" ENCODE [a-z0-9]+(?=,?\n)")
_TYPES = {
    16: pa.bool_(),
    21: pa.int16(),
    23: pa.int32(),
    20: pa.int64(),
    700: pa.float32(),
    701: pa.float64(),
    1082: pa.date32(),
    1114: pa.timestamp("us"),
}
_SETUP = (
    "CREATE DOMAIN super AS jsonb",
    "CREATE DOMAIN varbyte AS bytea",
    "CREATE SEQUENCE identity_numbers",
    "CREATE FUNCTION \"identity\"(integer, integer, text) RETURNS bigint LANGUAGE sql AS 'SELECT nextval(''identity_numbers'')'",
    "CREATE DOMAIN variant AS jsonb",
    "CREATE DOMAIN timestamp_ntz AS timestamp",
    "CREATE DOMAIN timestamp_ltz AS timestamptz",
    "CREATE DOMAIN timestamp_tz AS timestamptz",
    "CREATE FUNCTION convert_timezone(text, timestamptz) RETURNS timestamp LANGUAGE sql IMMUTABLE AS 'SELECT $2 AT TIME ZONE $1'",
    "CREATE FUNCTION json_serialize(jsonb) RETURNS text LANGUAGE sql IMMUTABLE AS 'SELECT $1::text'",
)
_ROWS = 50_000


class _Refused(Exception):
    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code, self.message = code, message


class WarehouseStandIn(ProxyServer):
    """See the module. ``postgres`` is a URL of the database, ``folder`` where the object store keeps its buckets; ``key`` and ``secret``
    are those that reach them, ``role`` the one that may; ``stages`` are the named stages, each with the bucket and prefix it is of."""

    def __init__(
        self,
        postgres: str,
        folder: Path,
        key: str,
        secret: str,
        *,
        role: str = "",
        port: int = 0,
        stages: Mapping[str, str] | None = None,
    ) -> None:
        self.stages = dict(stages or {})
        self.folder, self.key, self.secret, self.role = folder, key, secret, role
        self.vanishes = False
        """Whether a staged file is gone when the next COPY comes."""

        with psycopg.connect(postgres, autocommit=True) as opened:
            for statement in _SETUP:
                opened.execute(statement.encode())
            if self.stages:
                database = psycopg.sql.Identifier(urlsplit(postgres).path.strip("/"))
                opened.execute('CREATE SCHEMA IF NOT EXISTS "PUBLIC"')
                opened.execute(
                    psycopg.sql.SQL('ALTER DATABASE {} SET search_path = "PUBLIC", public').format(database)
                )
        super().__init__(postgres, port=port)

    def serve(self, client: socket.socket, backend: socket.socket) -> None:
        _Warehouse(self, client, backend).run()

    def path(self, url: str) -> Path:
        path = (self.folder / url.removeprefix("s3://")).resolve()
        if not path.is_relative_to(self.folder.resolve()):
            raise _Refused("42501", "S3ServiceException: Access Denied")
        return path

    def staged(self, stage: str, path: str) -> str:
        """The address of what a stage has under a path."""
        known = self.stages.get(stage.upper())
        if known is None:
            raise _Refused("42704", f"Stage '{stage}' does not exist or not authorized.")
        return f"s3://{known.strip('/')}/{path}"

    def require_access(self, options: str) -> None:
        if (role := _ROLE.search(options)) is not None:
            if not self.role or role[1] != self.role:
                raise _Refused("XX000", "S3ServiceException: IAM_ROLE is not authorized to assume")
            return
        keys = _KEY.search(options)
        if keys is None or (keys[1], keys[2]) != (self.key, self.secret):
            raise _Refused(
                "XX000",
                "S3ServiceException: The AWS Access Key Id or signature is not valid, Error 403, InvalidAccessKeyId",
            )


class _Warehouse(Proxy):
    def __init__(self, server: WarehouseStandIn, client: socket.socket, backend: socket.socket) -> None:
        super().__init__(client, backend)
        self._server = server
        self._upper: set[str] = set()

    def pass_on(self, kind: bytes, body: bytes) -> None:
        if kind == b"Q":
            text = body[:-1].decode()
            for pattern, carry_out in (
                (_COPY, self._copy),
                (_UNLOAD, self._unload),
                (_COPY_INTO, self._copy_into),
                (_COPY_OUT, self._copy_out),
                (_LIST, self._list),
            ):
                if (match := pattern.match(text)) is not None:
                    self._carry_out(carry_out, match)
                    return
            if self._server.stages:
                text = self._in_postgresql(text)
            if text.startswith("CREATE TABLE"):
                text = _ENCODED.sub("", _ARRANGED.sub("", text))
                text = _PRIMARY.sub("", re.sub(r"\bvarbyte\(\d+\)", "varbyte", text))
            elif text.startswith("CREATE TEMPORARY TABLE"):
                text = re.sub(r"\bvarbyte\(\d+\)", "varbyte", text)
            body = text.encode() + b"\0"
        self.backend.sendall(message(kind, body))

    def _carry_out(self, work: object, match: re.Match[str]) -> None:
        try:
            if "options" in match.groupdict():
                self._server.require_access(match["options"])
            tag = work(match)  # type: ignore[operator]
        except _Refused as error:
            self._fail(error)
            return
        except (OSError, pa.ArrowException, ValueError) as error:
            self._fail(_Refused("XX000", f"S3ServiceException: {error}"))
            return
        self.client.sendall(message(b"C", tag.encode() + b"\0") + self._ready)

    def _fail(self, error: _Refused) -> None:
        # the transaction fails in PostgreSQL as well
        self._exchange("DO $$ BEGIN RAISE EXCEPTION 'COPY failed'; END $$", quiet=True)
        fields = f"SERROR\0C{error.code}\0M{error.message}\0\0"
        self.client.sendall(message(b"E", fields.encode()) + self._ready)

    _ready = b"Z\0\0\0\5I"

    def _send(self, kind: bytes, body: bytes) -> None:
        self.backend.sendall(message(kind, body))

    def _receive(self) -> tuple[bytes, bytes]:
        head = exactly(self.backend, 5)
        (length,) = struct.unpack(">I", head[1:])
        return head[:1], exactly(self.backend, length - 4)

    def _exchange(
        self, statement: str, data: bytes | None = None, *, quiet: bool = False
    ) -> tuple[list[bytes], bytes, str]:
        """Runs a statement in the client's session: its rows or copied data, the description, and the tag."""
        self._send(b"Q", statement.encode() + b"\0")
        rows: list[bytes] = []
        described, tag, refused = b"", "", None
        while True:
            kind, body = self._receive()
            if kind == b"G" and data is not None:
                for start in range(0, len(data), 1 << 20):
                    self._send(b"d", data[start : start + (1 << 20)])
                self._send(b"c", b"")
            elif kind == b"d":
                rows.append(body)
            elif kind == b"T":
                described = body
            elif kind == b"C":
                tag = body[:-1].decode()
            elif kind == b"E":
                fields = {part[:1]: part[1:].decode() for part in body.split(b"\0") if part}
                refused = _Refused(fields.get(b"C", "XX000"), fields.get(b"M", ""))
            elif kind == b"Z":
                self._ready = message(b"Z", body)
                if refused is not None and not quiet:
                    raise refused
                return rows, described, tag

    def _in_postgresql(self, text: str) -> str:
        """A statement of the form with stages, in PostgreSQL's words."""
        if (limit := _STATEMENT_TIME.match(text)) is not None:
            return f"SET statement_timeout = {limit[1]}000"
        text = text.replace("ALTER SESSION SET ", "SET ", 1) if text.startswith("ALTER SESSION SET ") else text
        text = _PRECISION.sub(r"\1", text)

        def word(match: re.Match[str]) -> str:
            found = match[0]
            if found[0] in "'\"":
                return found
            if found.upper() in _IN_POSTGRESQL:
                return _IN_POSTGRESQL[found.upper()]
            return f'"{found.upper()}"' if found.upper() in self._upper else found

        rows, _, _ = self._exchange(f"COPY ({_UPPER_NAMES}) TO STDOUT", quiet=True)
        self._upper = {row.decode().rstrip("\n") for row in rows} - _TYPE_NAMES or self._upper
        return _WORDS.sub(word, text)

    def _copy_into(self, match: re.Match[str]) -> str:
        folder = self._server.staged(match["stage"], match["path"])
        names = [name.replace('""', '"') for name in _FIELD.findall(match["values"])]
        count = 0
        for file in re.findall(r"'([^']+)'", match["files"]):
            if self._server.vanishes:
                self._server.vanishes = False
                self._server.path(folder + file).unlink()
            path = self._server.path(folder + file)
            if not path.exists():
                raise _Refused("XX000", f"Remote file '{folder + file}' was not found. NoSuchKey")
            for batch in pq.ParquetFile(path).iter_batches(_ROWS, columns=names):
                rows = pa.Table.from_batches([batch]).select(names)
                self._copy_rows(f"{match['table']} ({match['columns']})", rows)
                count += batch.num_rows
        return f"COPY {count}"

    def _copy_out(self, match: re.Match[str]) -> str:
        folder = self._server.staged(match["stage"], match["path"])
        name, rows, size = self._write(self._in_postgresql(match["query"]), folder)
        self._answer(["FILE_NAME", "FILE_SIZE", "ROW_COUNT"], [[name, size, rows]] if rows else [])
        return "COPY"

    def _list(self, match: re.Match[str]) -> str:
        folder = self._server.path(self._server.staged(match["stage"], match["path"]))
        found = sorted(path for path in folder.glob("*") if path.is_file())
        self._answer(["name"], [[path.name] for path in found])
        self._ready = message(b"Z", b"I")
        return f"SELECT {len(found)}"

    def _answer(self, names: Sequence[str], rows: Sequence[Sequence[object]]) -> None:
        """Sends rows of texts to the client."""
        columns = b"".join(name.encode() + b"\0" + struct.pack(">IHIhiH", 0, 0, 25, -1, -1, 0) for name in names)
        self.client.sendall(message(b"T", struct.pack(">H", len(names)) + columns))
        for row in rows:
            values = [str(value).encode() for value in row]
            body = b"".join(struct.pack(">I", len(value)) + value for value in values)
            self.client.sendall(message(b"D", struct.pack(">H", len(values)) + body))

    def _copy_rows(self, target: str, rows: pa.Table) -> None:
        out = io.BytesIO()
        pv.write_csv(_as_text(rows), out, pv.WriteOptions(include_header=False))
        self._exchange(f"COPY {target} FROM STDIN (FORMAT csv)", out.getvalue())

    def _copy(self, match: re.Match[str]) -> str:
        entries = json.loads(self._server.path(match["url"]).read_bytes())["entries"]
        if self._server.vanishes:
            self._server.vanishes = False
            self._server.path(entries[0]["url"]).unlink()
        count = 0
        for entry in entries:
            path = self._server.path(entry["url"])
            if not path.exists():
                raise _Refused(
                    "XX000",
                    f"S3ServiceException: The specified key does not exist, Error 404, NoSuchKey, {entry['url']}",
                )
            for batch in pq.ParquetFile(path).iter_batches(_ROWS):
                self._copy_rows(match["table"], pa.Table.from_batches([batch]))
                count += batch.num_rows
        return f"COPY {count}"

    def _unload(self, match: re.Match[str]) -> str:
        name, rows, size = self._write(match["query"].replace("''", "'"), match["url"])
        url, meta = match["url"] + name.removeprefix("part_"), {"content_length": size, "record_count": rows}
        manifest = {"entries": [{"url": url, "meta": meta}] if rows else [], "meta": meta}
        self._server.path(match["url"] + "manifest").write_text(json.dumps(manifest))
        return "UNLOAD"

    def _write(self, query: str, url: str) -> tuple[str, int, int]:
        """The name of the file that is written, if there are rows; how many there are, and its size."""
        _, described, _ = self._exchange(f"SELECT * FROM ({query}) q LIMIT 0")
        columns = _columns(described)
        rows, _, _ = self._exchange(f"COPY ({query}) TO STDOUT (FORMAT csv)")
        table = _typed(b"".join(rows), columns)
        path = self._server.path(url + "0000_part_00.parquet")
        path.parent.mkdir(parents=True, exist_ok=True)
        size = 0
        if table.num_rows:
            pq.write_table(table, path)
            size = path.stat().st_size
            if self._server.vanishes:
                self._server.vanishes = False
                path.unlink()
        return path.name, table.num_rows, size


def _as_text(table: pa.Table) -> pa.Table:
    """Bytes as PostgreSQL reads them."""
    columns = []
    for column in table.columns:
        if pa.types.is_binary(column.type):
            column = pa.array(
                [None if value is None else "\\x" + value.hex() for value in column.to_pylist()], pa.string()
            )
        columns.append(column)
    return pa.table(columns, names=[f"c{number}" for number in range(len(columns))])


def _columns(described: bytes) -> list[tuple[str, int, int]]:
    """Names, types and modifiers from a row description."""
    (count,) = struct.unpack(">H", described[:2])
    found, at = [], 2
    for _ in range(count):
        end = described.index(b"\0", at)
        _, _, oid, _, modifier, _ = struct.unpack(">IHIhiH", described[end + 1 : end + 19])
        found.append((described[at:end].decode(), oid, modifier))
        at = end + 19
    return found


def _typed(data: bytes, columns: list[tuple[str, int, int]]) -> pa.Table:
    names = [f"c{number}" for number in range(len(columns))]
    if not data:
        return pa.table([pa.array([], pa.string()) for _ in names], names=names)
    options = pv.ConvertOptions(
        column_types=dict.fromkeys(names, pa.string()),
        null_values=[""],
        strings_can_be_null=True,
        quoted_strings_can_be_null=False,
    )
    parsing = pv.ParseOptions(newlines_in_values=True)
    reading = pv.ReadOptions(column_names=names, block_size=1 << 28)
    texts = pv.read_csv(io.BytesIO(data), reading, parsing, options)
    arrays = [
        _values(column.combine_chunks(), oid, modifier)
        for column, (_, oid, modifier) in zip(texts.columns, columns, strict=True)
    ]
    return pa.table(arrays, names=names)


def _values(texts: pa.Array, oid: int, modifier: int) -> pa.Array:
    if oid == 16:
        return pc.equal(texts, "t")
    if oid == 1700:
        precision, scale = (38, 18) if modifier < 4 else ((modifier - 4) >> 16, (modifier - 4) & 0xFFFF)
        return texts.cast(pa.decimal128(precision, scale))
    if oid == 17:
        return pa.array(
            [None if value is None else bytes.fromhex(value[2:]) for value in texts.to_pylist()], pa.binary()
        )
    if oid == 1184:
        return pc.binary_join_element_wise(texts, ":00", "").cast(pa.timestamp("us", "UTC"))
    return texts.cast(_TYPES[oid]) if oid in _TYPES else texts


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--postgres", required=True, help="URL of the PostgreSQL database behind it")
    parser.add_argument("--folder", type=Path, required=True, help="where the object store keeps its buckets")
    parser.add_argument("--key", required=True)
    parser.add_argument("--secret", required=True)
    parser.add_argument("--stage", action="append", default=[], metavar="NAME=BUCKET/PREFIX", help="a named stage")
    parser.add_argument("--port", type=int, default=0)
    given = parser.parse_args()
    stages = dict(item.split("=", 1) for item in given.stage)
    server = WarehouseStandIn(given.postgres, given.folder, given.key, given.secret, port=given.port, stages=stages)
    print(server.port, flush=True)
    sys.stdin.read()


if __name__ == "__main__":
    main()
