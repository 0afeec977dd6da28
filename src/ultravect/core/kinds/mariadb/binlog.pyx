"""The binary log of MariaDB and MySQL as the C client receives it, with the changes of rows in columns.

Whole numbers are sent lowest byte first, but for those in the newer forms of decimals and moments.

https://mariadb.com/kb/en/replication-protocol/
https://dev.mysql.com/doc/dev/mysql-server/latest/page_protocol_replication.html
"""

from cpython.bytes cimport PyBytes_FromStringAndSize
from libc.stdint cimport int32_t, int64_t, uint8_t, uint16_t, uint32_t, uint64_t
from libc.stdio cimport snprintf
from libc.stdlib cimport calloc, free
from libc.string cimport memcmp, memcpy, memset
import zlib

from ultravect.core.loading.change_rows cimport DELETE, FORMER, INSERT, UPDATE, ChangeRows
from ultravect.core.types.columns cimport Filling, add_bytes, add_null, close_value, next_value, room_for
from ultravect.core.types.network_order cimport get16, get32

cdef extern from "mysql.h":
    ctypedef struct MYSQL:
        pass
    unsigned int mysql_errno(MYSQL *) nogil
    const char *mysql_error(MYSQL *) nogil

cdef extern from "mariadb_rpl.h":
    ctypedef struct MARIADB_RPL:
        pass
    ctypedef struct MARIADB_RPL_EVENT:
        uint8_t *raw_data
        size_t raw_data_size
        size_t raw_data_ofs
    enum:
        MARIADB_RPL_FILENAME
        MARIADB_RPL_START
        MARIADB_RPL_SERVER_ID
        MARIADB_RPL_FLAGS
    MARIADB_RPL *mariadb_rpl_init(MYSQL *)
    int mariadb_rpl_optionsv(MARIADB_RPL *, int, ...)
    int mariadb_rpl_open(MARIADB_RPL *) nogil
    MARIADB_RPL_EVENT *mariadb_rpl_fetch(MARIADB_RPL *, MARIADB_RPL_EVENT *) nogil
    void mariadb_rpl_close(MARIADB_RPL *)
    void mariadb_free_rpl_event(MARIADB_RPL_EVENT *)

cdef extern from *:
    """
    /* how the driver lays out its connection: the client's own structure comes first */
    typedef struct { PyObject_HEAD MYSQL connection; } following_connection;
    #define FOLLOWING_CLIENT(object) (&((following_connection *) (object))->connection)
    """
    MYSQL *FOLLOWING_CLIENT(object connection)

cdef enum:
    # events
    QUERY_EVENT = 2
    ROTATE_EVENT = 4
    FORMAT_EVENT = 15
    XID_EVENT = 16
    TABLE_MAP_EVENT = 19
    WRITE_V1 = 23
    DELETE_V1 = 25
    INCIDENT_EVENT = 26
    HEARTBEAT_EVENT = 27
    WRITE_V2 = 30
    DELETE_V2 = 32
    GTID_MYSQL = 33
    ANONYMOUS_MYSQL = 34
    XA_PREPARE_EVENT = 38
    PARTIAL_UPDATE = 39
    GTID_MARIADB = 162
    QUERY_COMPRESSED = 165
    WRITE_COMPRESSED_V1 = 166
    DELETE_COMPRESSED_V1 = 168
    WRITE_COMPRESSED_V2 = 169
    DELETE_COMPRESSED_V2 = 171
    PAYLOAD_MYSQL = 40
    HEADER = 19
    STANDALONE = 1
    PREPARES = 0x40
    NOT_PARSED = 5021

    # types of columns
    TINY = 1
    SHORT = 2
    LONG = 3
    FLOAT = 4
    DOUBLE = 5
    TIMESTAMP = 7
    LONGLONG = 8
    INT24 = 9
    DATE = 10
    TIME = 11
    DATETIME = 12
    YEAR = 13
    VARCHAR = 15
    BIT = 16
    TIMESTAMP2 = 17
    DATETIME2 = 18
    TIME2 = 19
    BLOB_COMPRESSED = 140
    VARCHAR_COMPRESSED = 141
    JSON = 245
    NEWDECIMAL = 246
    ENUM = 247
    SET = 248
    BLOB = 252
    STRING = 254
    GEOMETRY = 255

FILE = 1 << 40
cdef int64_t FILE_PLACES = 1 << 40
cdef int *DECIMAL_BYTES = [0, 1, 1, 2, 2, 3, 3, 4, 4, 4]


class Broken(ValueError):
    """An event that is not as the protocol has it."""


class RowIncomplete(Exception):
    """The log does not have all values of a row that was inserted."""


cdef struct Kept:
    # a column of a table, as its events write it
    int code
    int first   # of its metadata: digits, length, fraction, size
    int second
    bint is_unsigned


cdef class TableRows:
    """The changes of one table, whose columns are ``described``: each its type's code, two numbers of metadata, and whether it is unsigned.

    ``keys``: places of columns; what a row was before an update is given only where one of them has changed.
    """

    cdef readonly ChangeRows rows
    cdef Kept *_columns
    cdef int64_t *_slices
    cdef list _keys
    cdef int _count

    def __cinit__(self, described, keys):
        self._count = len(described)
        self._columns = <Kept *>calloc(max(self._count, 1), sizeof(Kept))
        self._slices = <int64_t *>calloc(max(4 * len(keys), 1), sizeof(int64_t))
        if self._columns == NULL or self._slices == NULL:
            raise MemoryError()
        widths = []
        for number, (code, first, second, unsigned) in enumerate(described):
            if not is_possible(code, first, second):
                raise Broken("a column of a type, or of a size, that there is not")
            self._columns[number] = Kept(code, first, second, unsigned)
            widths.append(width_of(code, unsigned))
        self.rows = ChangeRows(widths)
        self._keys = list(keys)

    def __dealloc__(self):
        free(self._columns)
        free(self._slices)

    cdef int take(
        self, int kind, const uint8_t *at, const uint8_t *past, bint has_extra, BinlogReader reader
    ) except -1:
        """The rows of one event, from after its table's number and flags on."""
        cdef ChangeRows rows = self.rows
        cdef int64_t count, size
        cdef const uint8_t *before = NULL
        cdef const uint8_t *after = NULL
        if has_extra:
            need(at, past, 2)
            size = low16(at)
            need(at, past, size)
            at += size
        at = packed(at, past, &count)
        if count != self._count:
            raise Broken("rows of other columns than their table has")
        size = (count + 7) // 8
        need(at, past, size)
        before = after = at
        at += size
        if kind == UPDATE:
            need(at, past, size)
            after = at
            at += size
        cdef const uint8_t *next
        cdef const uint8_t *begun
        while at < past:
            begun = at
            if kind == UPDATE:
                next = self._walk(at, past, before, 0)
                if self._moves(next, past, after):
                    self._row(FORMER, at, past, before, reader)
                at = next
                at = self._row(UPDATE, at, past, after, reader)
            else:
                at = self._row(kind, at, past, before, reader)
            if at <= begun:
                raise Broken("rows without values")
            reader.rows += 1
        reader.changed = True
        return 0

    cdef bint _moves(self, const uint8_t *at, const uint8_t *past, const uint8_t *present) except -1:
        """Whether a key of the row that begins at ``at`` is another one than that of the row that was walked before."""
        cdef int number
        cdef int64_t *slice
        if not self._keys:
            return False
        self._walk(at, past, present, 2)
        for number in range(len(self._keys)):
            slice = self._slices + 4 * number
            if slice[1] == -2 or slice[3] == -2:
                continue  # not said: the one that it was
            if slice[1] != slice[3] or (slice[1] > 0 and memcmp(<void *>slice[0], <void *>slice[2], slice[1])):
                return True
        return False

    cdef const uint8_t *_walk(
        self, const uint8_t *at, const uint8_t *past, const uint8_t *present, int noted
    ) except NULL:
        """The end of the row that begins here; where its keys are is noted: the size is -1 for NULL, -2 where it is not said."""
        cdef int number, key, known = 0
        cdef int64_t size
        cdef const uint8_t *nulls = at
        for number in range(self._count):
            known += bit(present, number)
        need(at, past, (known + 7) // 8)
        at += (known + 7) // 8
        known = 0
        for number in range(self._count):
            size = -2
            if bit(present, number):
                size = -1
                if not bit(nulls, known):
                    size = length_of(&self._columns[number], at, past)
                known += 1
            for key in range(len(self._keys)):
                if <int>self._keys[key] == number:
                    self._slices[4 * key + noted] = <int64_t>at
                    self._slices[4 * key + noted + 1] = size
            if size > 0:
                at += size
        return at

    cdef const uint8_t *_row(
        self, int kind, const uint8_t *at, const uint8_t *past, const uint8_t *present, BinlogReader reader
    ) except NULL:
        cdef int number, known = 0
        cdef int64_t size
        cdef ChangeRows rows = self.rows
        cdef const uint8_t *nulls = at
        for number in range(self._count):
            known += bit(present, number)
        need(at, past, (known + 7) // 8)
        at += (known + 7) // 8
        known = 0
        for number in range(self._count):
            if not bit(present, number):
                if kind == INSERT:
                    raise RowIncomplete()
                add_null(&rows.columns[number])
                if kind == UPDATE:
                    rows.unknown.append((rows.rows, number))
                continue
            if bit(nulls, known):
                add_null(&rows.columns[number])
            else:
                size = length_of(&self._columns[number], at, past)
                add_value(&rows.columns[number], &self._columns[number], at, size)
                at += size
            known += 1
        rows.close_row(kind, reader.order, reader.position, reader.committed_at)
        reader.order += 1
        return at


cdef class BinlogReader:
    """Reads events from a position on; changes of rows are added to the ``TableRows`` of their tables.

    ``position``: where the transaction under way, or the last one, begins; ``end``: where the last one that was
    read ends, ``moment`` when it was committed, in microseconds since 1970. ``reached``: how far the server has come. ``inside``: whether a
    transaction has not ended, ``changed``: whether a change of it was taken. ``size``: bytes of changes, and ``rows``, since ``renew``.

    A position is the number of the log's file, times 2**40, and the place in it.
    """

    cdef MARIADB_RPL *_log
    cdef MARIADB_RPL_EVENT *_event
    cdef object _connection
    cdef bytes _base
    cdef int64_t _file, _place
    cdef bint _sums, _closes, _begun, _rotated
    cdef uint32_t _domain, _server
    cdef uint64_t _sequence
    cdef readonly str gtid
    cdef dict _tables, _known
    cdef public int64_t order, rows, size
    cdef public bint changed
    cdef readonly int64_t position, committed_at, end, moment, reached
    cdef readonly bint inside

    def __init__(self, connection, int server, bytes base, int64_t position):
        """``base``: the name of the log's files without their numbers; ``connection`` is the driver's, and is kept."""
        cdef bytes name = file_name(base, position // FILE_PLACES)
        self._connection, self._base = connection, base
        self._tables, self._known, self.gtid = {}, {}, ""
        self._file, self._place = position // FILE_PLACES, position % FILE_PLACES
        self.position = self.end = self.reached = position
        self._log = mariadb_rpl_init(FOLLOWING_CLIENT(connection))
        if self._log == NULL:
            raise MemoryError()
        mariadb_rpl_optionsv(self._log, MARIADB_RPL_SERVER_ID, <unsigned int>server)
        mariadb_rpl_optionsv(self._log, MARIADB_RPL_FILENAME, <const char *>name, <size_t>len(name))
        mariadb_rpl_optionsv(self._log, MARIADB_RPL_START, <unsigned long>(position % FILE_PLACES))
        mariadb_rpl_optionsv(self._log, MARIADB_RPL_FLAGS, <unsigned int>0)

    def open(self) -> tuple[int, str]:
        """Asks for the events; the number of the server's or the client's error, 0 for none, and its text."""
        cdef int failed
        with nogil:
            failed = mariadb_rpl_open(self._log)
        return self._error() if failed else (0, "")

    def __dealloc__(self):
        if self._event != NULL:
            mariadb_free_rpl_event(self._event)
        if self._log != NULL:
            mariadb_rpl_close(self._log)

    cdef tuple _error(self):
        cdef MYSQL *client = FOLLOWING_CLIENT(self._connection)
        return mysql_errno(client), mysql_error(client).decode("utf-8", "replace")

    def renew(self) -> None:
        self.size = self.rows = 0

    def take(self, int64_t most_bytes, int64_t most_rows) -> tuple:
        """Reads until something is to be looked at by others: its word, and what belongs to it.

        ``commit``, ``rollback``; ``full``: so many bytes or rows are held; ``alive``: the server has nothing more; ``table`` with
        what ``set_table`` is given, its database, its name and its columns; ``statement`` with its database and text; ``prepares``: a transaction of two phases begins,
        ``prepared`` with the two parts of its name; ``incident`` of the server; ``failed`` with the number and text of an error.
        """
        cdef MARIADB_RPL_EVENT *event
        cdef const uint8_t *raw
        cdef int64_t length
        while True:
            if self._closes:
                return self._close("commit")
            if self.size >= most_bytes or self.rows >= most_rows:
                return ("full",)
            with nogil:
                event = mariadb_rpl_fetch(self._log, self._event)
            if event == NULL:
                # the client has freed the one that it was given
                self._event = NULL
                if self._rotated and mysql_errno(FOLLOWING_CLIENT(self._connection)) == NOT_PARSED:
                    # the event that repeats the name of the new file: client versions do not know that it has a sum, too
                    self._rotated = False
                    continue
                return ("failed", *self._error())
            self._event = event
            raw, length = event.raw_data + event.raw_data_ofs, event.raw_data_size - event.raw_data_ofs
            found = self._take(raw, length)
            if found is not None:
                return found

    cdef tuple _close(self, str how):
        self._closes = self.inside = False
        self.end = self.reached = self._file * FILE_PLACES + self._place
        self.moment = self.committed_at
        if self._sequence:
            self.gtid = f"{self._domain}-{self._server}-{self._sequence}"
        return (how,)

    cdef int _begin(self, const uint8_t *raw, int64_t length) except -1:
        self.position = self._file * FILE_PLACES + self._place - length
        self.committed_at = <int64_t>low32(raw) * 1_000_000
        self.inside, self.changed = True, False
        self._tables.clear()
        return 0

    cdef tuple _take(self, const uint8_t *raw, int64_t length):
        need(raw, raw + length, HEADER)
        cdef int event = raw[4]
        cdef uint32_t next = low32(raw + 13)
        cdef const uint8_t *at = raw + HEADER
        cdef const uint8_t *past = raw + length - (4 if self._sums else 0)
        cdef int64_t table
        cdef TableRows rows
        if event == ROTATE_EVENT:
            self._rotated = next != 0
            return self._rotate(at, raw + length)
        if event == FORMAT_EVENT:
            # the last five bytes: how sums are made, and the event's own
            self._sums = length > 5 and raw[length - 5] == 1
            if next:
                self._place = next
            return None
        if event == HEARTBEAT_EVENT:
            if not self.inside:
                self._follow(next)
                self.reached = max(self.reached, self._file * FILE_PLACES + self._place)
            return ("alive",)
        if next:
            self._follow(next)
        if past < at:
            raise Broken("an event that is cut off")
        if event == GTID_MARIADB:
            need(at, past, 13)
            self._begin(raw, length)
            memcpy(&self._sequence, at, 8)
            self._domain, self._server = low32(at + 8), low32(raw + 5)
            self._begun = not at[12] & STANDALONE
            return ("prepares",) if at[12] & PREPARES else None
        if event == GTID_MYSQL or event == ANONYMOUS_MYSQL:
            self._begin(raw, length)
            self._begun = False
            return None
        if event == TABLE_MAP_EVENT:
            need(at, past, 8)
            return self._describe(low48(at), at + 8, past)
        if WRITE_V1 <= event <= DELETE_V1 or WRITE_V2 <= event <= DELETE_V2:
            need(at, past, 8)
            rows = self._tables.get(low48(at))
            if rows is not None and not rows.rows.skips and self.position >= rows.rows.after:
                rows.take(KIND[(event - WRITE_V1) % 7], at + 8, past, event >= WRITE_V2, self)
                self.size += length
            return None
        if WRITE_COMPRESSED_V1 <= event <= DELETE_COMPRESSED_V2:
            return self._compressed(event, at, past)
        if event == XID_EVENT:
            return self._close("commit")
        if event == QUERY_EVENT or event == QUERY_COMPRESSED:
            return self._query(raw, at, past, event == QUERY_COMPRESSED)
        if event == XA_PREPARE_EVENT:
            need(at, past, 13)
            self._closes = True
            need(at + 13, past, <int64_t>low32(at + 5) + low32(at + 9))
            first = PyBytes_FromStringAndSize(<const char *>at + 13, low32(at + 5))
            return ("prepared", first, PyBytes_FromStringAndSize(<const char *>at + 13 + low32(at + 5), low32(at + 9)))
        if event == INCIDENT_EVENT:
            return ("incident",)
        if event == PARTIAL_UPDATE or event == PAYLOAD_MYSQL:
            return ("unknown", event)
        return None

    cdef int _follow(self, uint32_t next) except -1:
        """Where the log has come to: beyond 4 GB of a file, the server gives only the lower half of it."""
        cdef int64_t place = (self._place & ~<int64_t>0xFFFFFFFF) | next
        if place < self._place - 0x7FFFFFFF:
            place += 1 << 32
        self._place = max(self._place, place)
        return 0

    cdef tuple _rotate(self, const uint8_t *at, const uint8_t *past):
        need(at, past, 8)
        cdef int64_t place = low32(at) | <int64_t>low32(at + 4) << 32
        name = PyBytes_FromStringAndSize(<const char *>at + 8, past - at - 8)
        # whether the event has a sum is known only after the next one
        for number in (name, name[: max(len(name) - 4, 0)]):
            kept = number[len(self._base) + 1 :]
            if number.startswith(self._base + b".") and kept.isdigit():
                self._file, self._place = int(kept), place
                if not self.inside:
                    self.reached = max(self.reached, self._file * FILE_PLACES + place)
                return None
        raise Broken("a file of the log by another name")

    cdef tuple _query(self, const uint8_t *raw, const uint8_t *at, const uint8_t *past, bint compressed):
        need(at, past, 13)
        cdef int64_t named = at[8], status = low16(at + 11)
        need(at, past, 13 + status + named + 1)
        database = PyBytes_FromStringAndSize(<const char *>at + 13 + status, named)
        at += 13 + status + named + 1
        text = PyBytes_FromStringAndSize(<const char *>at, past - at)
        if compressed:
            text = uncompressed(text)
        if text == b"BEGIN":
            self._begun = True
            if not self.inside:
                self._begin(raw, past - raw + (4 if self._sums else 0))
            return None
        if text == b"COMMIT" or text == b"ROLLBACK":
            return self._close("commit" if text == b"COMMIT" else "rollback")
        self._closes = not self._begun
        return ("statement", database, text)

    cdef tuple _compressed(self, int event, const uint8_t *at, const uint8_t *past):
        need(at, past, 8)
        cdef bint second = event >= WRITE_COMPRESSED_V2
        cdef TableRows rows = self._tables.get(low48(at))
        if rows is None or rows.rows.skips or self.position < rows.rows.after:
            return None
        # the head, to the end of the bits of columns, is as it is elsewhere
        cdef const uint8_t *head = at + 8
        cdef int64_t count, bits
        if second:
            need(head, past, 2)
            head += low16(head)
        head = packed(head, past, &count)
        bits = (count + 7) // 8
        if (event - WRITE_COMPRESSED_V1) % 3 == 1:
            bits *= 2
        need(head, past, bits)
        head += bits
        whole = PyBytes_FromStringAndSize(<const char *>at + 8, head - at - 8) + uncompressed(
            PyBytes_FromStringAndSize(<const char *>head, past - head)
        )
        cdef const uint8_t *begins = <const uint8_t *><const char *>whole
        rows.take(KIND[(event - WRITE_COMPRESSED_V1) % 3], begins, begins + len(whole), second, self)
        self.size += len(whole)
        return None

    cdef tuple _describe(self, int64_t number, const uint8_t *at, const uint8_t *past):
        cdef int64_t size
        described = PyBytes_FromStringAndSize(<const char *>at, past - at)
        if described in self._known:
            self._tables[number] = self._known[described]
            return None
        need(at, past, 1)
        size = at[0]
        need(at, past, size + 2)
        database = PyBytes_FromStringAndSize(<const char *>at + 1, size)
        at += size + 2
        need(at, past, 1)
        size = at[0]
        need(at, past, size + 2)
        table = PyBytes_FromStringAndSize(<const char *>at + 1, size)
        at += size + 2
        return ("table", number, described, database, table, PyBytes_FromStringAndSize(<const char *>at, past - at))

    def set_table(self, int64_t number, bytes described, rows) -> None:
        """Changes of a table that was described so are added to ``rows``; None: they are left out."""
        self._tables[number] = self._known[described] = rows

    def forget(self) -> None:
        """Has tables be described again."""
        self._known.clear()


KIND = (INSERT, UPDATE, DELETE)


def file_name(bytes base, int64_t number) -> bytes:
    return b"%b.%06d" % (base, number)


def uncompressed(bytes data) -> bytes:
    """What MariaDB has compressed: a byte that says how many bytes the size has, the size, and the data."""
    cdef int count = data[0] & 7 if data else 0
    if count == 0 or count > 4 or len(data) < 1 + count or data[0] & 0x70:
        raise Broken("an event that is compressed in an unknown way")
    size = int.from_bytes(data[1 : 1 + count], "big")
    opened = zlib.decompressobj()
    try:
        text = opened.decompress(data[1 + count :], size + 1)
    except zlib.error:
        raise Broken("an event that is compressed in an unknown way") from None
    if len(text) != size:
        raise Broken("an event of another size than it says")
    return text


cdef int width_of(int code, bint is_unsigned) except -1:
    """The bytes of a value in the column that it is kept in, 0 for a text: whole numbers are kept as such, and numbers of names too."""
    if code == FLOAT:
        return 4
    if code == LONGLONG:
        return 0 if is_unsigned else 8
    return 8 if code in (TINY, SHORT, INT24, LONG, DOUBLE, YEAR, ENUM, SET) else 0


cdef inline int need(const uint8_t *at, const uint8_t *past, int64_t size) except -1:
    if past - at < size:
        raise Broken("an event that is cut off")
    return 0


cdef inline bint bit(const uint8_t *bits, int number) noexcept:
    return bits[number >> 3] >> (number & 7) & 1


cdef inline int64_t low16(const uint8_t *at) noexcept:
    return at[0] | at[1] << 8


cdef inline uint32_t low32(const uint8_t *at) noexcept:
    cdef uint32_t value
    memcpy(&value, at, 4)
    return value


cdef inline int64_t low48(const uint8_t *at) noexcept:
    return low32(at) | <int64_t>low16(at + 4) << 32


cdef inline int64_t low(const uint8_t *at, int size) noexcept:
    """A whole number without a sign, of at most seven bytes."""
    cdef int64_t value = 0
    cdef int number
    for number in range(size):
        value |= <int64_t>at[number] << 8 * number
    return value


cdef inline uint64_t high(const uint8_t *at, int size) noexcept:
    cdef uint64_t value = 0
    cdef int number
    for number in range(size):
        value = value << 8 | at[number]
    return value


cdef const uint8_t *packed(const uint8_t *at, const uint8_t *past, int64_t *value) except NULL:
    need(at, past, 1)
    cdef int size = 2 if at[0] == 252 else 3 if at[0] == 253 else 8 if at[0] == 254 else 0
    if not size:
        value[0] = at[0]
        return at + 1
    if size == 8:
        raise Broken("a table of more columns than there are")
    need(at, past, 1 + size)
    value[0] = low(at + 1, size)
    return at + 1 + size


cdef bint is_possible(int code, int first, int second) except -1:
    """Whether values of such a column can be read: what a server says of it decides how many bytes they have."""
    if code in (TINY, SHORT, LONG, FLOAT, DOUBLE, TIMESTAMP, LONGLONG, INT24, DATE, TIME, DATETIME, YEAR):
        return True
    if code in (TIMESTAMP2, DATETIME2, TIME2):
        return 0 <= first <= 6
    if code == NEWDECIMAL:
        return 0 <= second <= first <= 65 and first
    if code in (VARCHAR, VARCHAR_COMPRESSED, STRING):
        return 0 <= first <= 0xFFFF
    if code in (BLOB, BLOB_COMPRESSED, GEOMETRY, JSON):
        return 1 <= first <= 4
    if code == ENUM:
        return 1 <= first <= 2
    if code == SET:
        return 1 <= first <= 8
    return code == BIT and 1 <= first <= 64


cdef int64_t decimal_size(int digits, int scale) noexcept:
    cdef int whole = digits - scale
    return whole // 9 * 4 + DECIMAL_BYTES[whole % 9] + scale // 9 * 4 + DECIMAL_BYTES[scale % 9]


cdef int64_t length_of(const Kept *column, const uint8_t *at, const uint8_t *past) except -1:
    """How many bytes a value has; all of them are there."""
    cdef int code = column.code
    cdef int64_t size, prefix = 0
    if code == TINY or code == YEAR:
        size = 1
    elif code == SHORT:
        size = 2
    elif code == INT24 or code == DATE or code == TIME:
        size = 3
    elif code == LONG or code == FLOAT or code == TIMESTAMP:
        size = 4
    elif code == LONGLONG or code == DOUBLE or code == DATETIME:
        size = 8
    elif code == TIMESTAMP2:
        size = 4 + (column.first + 1) // 2
    elif code == DATETIME2:
        size = 5 + (column.first + 1) // 2
    elif code == TIME2:
        size = 3 + (column.first + 1) // 2
    elif code == NEWDECIMAL:
        size = decimal_size(column.first, column.second)
    elif code == ENUM or code == SET:
        size = column.first
    elif code == BIT:
        size = (column.first + 7) // 8
    else:
        # a length before the value, of so many bytes
        prefix = prefix_of(column)
        need(at, past, prefix)
        size = prefix + low(at, prefix)
    need(at, past, size)
    return size


cdef inline int prefix_of(const Kept *column) noexcept:
    if column.code == VARCHAR or column.code == STRING or column.code == VARCHAR_COMPRESSED:
        return 2 if column.first > 255 else 1
    return column.first


cdef int add_value(Filling *to, const Kept *column, const uint8_t *at, int64_t size) except -1:
    """A value as the server would write it; ``size``: its bytes, as ``length_of`` counts them."""
    cdef int code = column.code, prefix
    cdef int64_t number
    cdef double wide
    cdef float narrow
    cdef uint8_t *room
    if code == TINY or code == SHORT or code == INT24 or code == LONG:
        number = low(at, size)
        if not column.is_unsigned and number >> (8 * size - 1):
            number -= <int64_t>1 << 8 * size
        memcpy(next_value(to), &number, 8)
    elif code == LONGLONG:
        memcpy(&number, at, 8)
        if column.is_unsigned:
            room = room_for(to, 24)
            close_value(to, snprintf(<char *>room, 24, "%llu", <unsigned long long>number))
        else:
            memcpy(next_value(to), &number, 8)
    elif code == FLOAT or code == DOUBLE:
        memcpy(next_value(to), at, size)
    elif code == ENUM:
        number = low(at, size)
        memcpy(next_value(to), &number, 8)
    elif code == SET:
        number = 0
        memcpy(&number, at, size)
        memcpy(next_value(to), &number, 8)
    elif code == YEAR:
        number = at[0] + 1900 if at[0] else 0
        memcpy(next_value(to), &number, 8)
    elif code == NEWDECIMAL:
        add_decimal(to, column.first, column.second, at)
    elif code == BIT:
        if column.first == 1:
            add_bytes(to, b"1" if at[0] & 1 else b"0", 1)
        else:
            add_bytes(to, at, size)
    elif DATE <= code <= DATETIME or TIMESTAMP2 <= code <= TIME2 or code == TIMESTAMP:
        add_moment(to, column, at)
    else:
        prefix = prefix_of(column)
        if code == STRING and column.second:
            # of fixed length, without the zeros at its end
            room = room_for(to, column.first)
            memset(room, 0, column.first)
            memcpy(room, at + prefix, min(size - prefix, <int64_t>column.first))
            close_value(to, column.first)
        else:
            add_bytes(to, at + prefix, size - prefix)
    return 0


cdef int add_decimal(Filling *to, int digits, int scale, const uint8_t *at) except -1:
    """Nine digits in four bytes, the highest bit turned; negative numbers have all bits turned."""
    cdef int whole = digits - scale, part, size, group, begun
    cdef bint negative = not at[0] & 0x80
    cdef uint8_t turned = 0xFF if negative else 0, first = 0x80
    cdef uint64_t value
    cdef int number
    cdef char *room = <char *>room_for(to, digits + 16)
    cdef int length = 0
    if negative:
        room[0] = c"-"
        length = 1
    begun = length
    # groups before the mark: first the one that is not whole, then whole ones; after it the other way round
    for part in range(2):
        left = whole if part == 0 else scale
        if part == 1 and scale:
            room[length] = c"."
            length += 1
        while left > 0:
            group = (left % 9 or 9) if part == 0 else min(left, 9)
            size = DECIMAL_BYTES[group]
            value = 0
            for number in range(size):
                value = value << 8 | (at[number] ^ turned ^ first)
                first = 0
            at += size
            left -= group
            if part == 0 and length == begun:
                if value:
                    length += snprintf(room + length, 12, "%llu", <unsigned long long>value)
            else:
                length += snprintf(room + length, 12, "%0*llu", group, <unsigned long long>value)
        if part == 0 and length == begun:
            room[length] = c"0"
            length += 1
    close_value(to, length)
    return 0


cdef int add_moment(Filling *to, const Kept *column, const uint8_t *at) except -1:
    cdef int code = column.code, fraction = column.first if TIMESTAMP2 <= code <= TIME2 else 0
    cdef int64_t number, micros = 0, clock
    cdef int bytes_of = (fraction + 1) // 2, length = 0, year, month, day
    cdef bint negative = False
    cdef char *room = <char *>room_for(to, 48)
    if code == DATE:
        number = low(at, 3)
        close_value(to, snprintf(room, 48, "%04d-%02d-%02d", <int>(number >> 9), <int>(number >> 5 & 15), <int>(number & 31)))
        return 0
    if code == TIME:
        number = low(at, 3)
        if number >> 23:
            number = (1 << 24) - number
            negative = True
        length = snprintf(
            room, 48, "%s%02d:%02d:%02d", b"-" if negative else b"", <int>(number // 10_000), <int>(number // 100 % 100), <int>(number % 100)
        )
    elif code == TIME2:
        # one number with its fraction, moved so that it is positive
        number = <int64_t>high(at, 3 + bytes_of) - (<int64_t>0x800000 << 8 * bytes_of)
        if number < 0:
            number, negative = -number, True
        micros = (number & ((<int64_t>1 << 8 * bytes_of) - 1)) * POWERS[6 - 2 * bytes_of]
        clock = number >> 8 * bytes_of
        length = snprintf(
            room, 48, "%s%02d:%02d:%02d", b"-" if negative else b"", <int>(clock >> 12 & 0x3FF), <int>(clock >> 6 & 63), <int>(clock & 63)
        )
    elif code == DATETIME:
        memcpy(&number, at, 8)
        length = snprintf(
            room, 48, "%04d-%02d-%02d %02d:%02d:%02d", <int>(number // 10_000_000_000), <int>(number // 100_000_000 % 100),
            <int>(number // 1_000_000 % 100), <int>(number // 10_000 % 100), <int>(number // 100 % 100), <int>(number % 100),
        )
    elif code == DATETIME2:
        number = <int64_t>high(at, 5) - 0x8000000000
        micros = high(at + 5, bytes_of) * POWERS[6 - 2 * bytes_of]
        clock = number & 0x1FFFF
        number >>= 17
        length = snprintf(
            room, 48, "%04d-%02d-%02d %02d:%02d:%02d", <int>((number >> 5) // 13), <int>((number >> 5) % 13), <int>(number & 31),
            <int>(clock >> 12), <int>(clock >> 6 & 63), <int>(clock & 63),
        )
    else:
        number = low32(at) if code == TIMESTAMP else get32(at)
        micros = high(at + 4, bytes_of) * POWERS[6 - 2 * bytes_of]
        if number == 0 and micros == 0:
            length = snprintf(room, 48, "0000-00-00 00:00:00")
        else:
            civil(number // 86_400, &year, &month, &day)
            clock = number % 86_400
            length = snprintf(
                room, 48, "%04d-%02d-%02d %02d:%02d:%02d", year, month, day, <int>(clock // 3600), <int>(clock // 60 % 60), <int>(clock % 60)
            )
    if fraction:
        length += snprintf(room + length, 12, ".%0*lld", fraction, <long long>(micros // POWERS[6 - fraction]))
    if code == TIMESTAMP or code == TIMESTAMP2:
        memcpy(room + length, b"+00:00", 6)
        length += 6
    close_value(to, length)
    return 0


cdef int64_t *POWERS = [1, 10, 100, 1_000, 10_000, 100_000, 1_000_000]


cdef void civil(int64_t days, int *year, int *month, int *day) noexcept:
    """The date of a day since 1970, which is not before it: years are counted from March on."""
    cdef int64_t era, of_era, years, of_year, shifted
    days += 719_468
    era = days // 146_097
    of_era = days - era * 146_097
    years = (of_era - of_era // 1460 + of_era // 36_524 - of_era // 146_096) // 365
    of_year = of_era - (365 * years + years // 4 - years // 100)
    shifted = (5 * of_year + 2) // 153
    day[0] = <int>(of_year - (153 * shifted + 2) // 5 + 1)
    month[0] = <int>(shifted + 3 if shifted < 10 else shifted - 9)
    year[0] = <int>(years + era * 400 + (month[0] <= 2))
