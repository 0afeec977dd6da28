"""Messages of the logical replication protocol, with the changes of rows in columns.

https://www.postgresql.org/docs/current/protocol-logicalrep-message-formats.html
"""

from cpython.buffer cimport PyBUF_SIMPLE, PyBuffer_Release, PyObject_GetBuffer
from libc.stdint cimport int32_t, int64_t, uint8_t, uint32_t

from ultravect.core.loading.change_rows cimport DELETE, FORMER, INSERT, UPDATE, ChangeRows
from ultravect.core.types.columns cimport add_bytes, add_null
from ultravect.core.types.network_order cimport get16, get32, get64

cdef int DATA_HEADER = 25, ALIVE_BYTES = 18
# microseconds from 1970 to 2000
cdef int64_t EPOCH = 946_684_800_000_000


cdef class MessageDecoder:
    """Takes messages as the server sends them; those that are no changes of rows are given back one by one.

    ``relations``: the tables that are followed by the server's number, each with its ``ChangeRows``; changes of others are left out.
    ``end``: the end of the last transaction that was read; ``moment`` when it was committed, in microseconds since 1970; ``reached``: how far
    the server has come. ``position`` and ``committed_at``: of the transaction that was begun last; ``inside``: whether it has not ended yet,
    ``changed``: whether a change of it was taken. ``size``: bytes of changes, and ``rows``, since ``renew``.
    """

    cdef public dict relations
    cdef readonly int64_t end, moment, reached, size, rows
    cdef readonly bint inside, asked, changed
    cdef readonly int64_t position, committed_at
    cdef int64_t _order
    cdef readonly uint32_t transaction
    cdef public object begins

    def __init__(self, begins):
        """``begins`` is called with the number of each transaction that begins, and its position."""
        self.relations = {}
        self.begins = begins
        self.end = self.moment = self.reached = self.size = self.rows = 0
        self._order = self.position = self.committed_at = 0
        self.inside = self.asked = self.changed = False

    def renew(self) -> None:
        self.size = self.rows = 0

    def take(self, receive, int64_t most_bytes, int64_t most_rows) -> tuple:
        """Takes what ``receive(1)`` gives, a length and a message, until one is to be looked at by others: the length and that message.

        Also ends after a commit, with the message ``b"C"``, and once ``most_bytes`` or ``most_rows`` are held, with ``b""``; a length that is
        not positive is what ``receive`` gave last.
        """
        cdef int64_t length
        cdef Py_buffer view
        cdef int found
        while True:
            if self.size >= most_bytes or self.rows >= most_rows:
                return 1, b""
            length, message = receive(1)
            if length <= 0:
                return length, b""
            PyObject_GetBuffer(message, &view, PyBUF_SIMPLE)
            try:
                found = self._message(<const uint8_t *>view.buf, view.len)
            finally:
                PyBuffer_Release(&view)
            if found == 1:
                return length, b"C"
            if found == 2:
                return length, bytes(message)[DATA_HEADER:]
            if found == 3:
                return length, b"k"

    cdef int _message(self, const uint8_t *at, int64_t length) except -1:
        """0: it was taken; 1: a transaction has ended; 2: others have to look at it; 3: the server says how far it has come."""
        if length >= ALIVE_BYTES and at[0] == c"k":
            self.reached = max(self.reached, <int64_t>get64(at + 1))
            self.asked = at[17] != 0
            return 3
        if length <= DATA_HEADER or at[0] != c"w":
            raise ValueError("a message that the protocol of replication does not have")
        cdef const uint8_t *past = at + length
        at += DATA_HEADER
        cdef uint8_t kind = at[0]
        at += 1
        if kind == c"I" or kind == c"U" or kind == c"D":
            self._change(kind, at, past)
            return 0
        if kind == c"B":
            need(at, past, 20)
            self.position = <int64_t>get64(at)
            self.committed_at = <int64_t>get64(at + 8) + EPOCH
            self.transaction = get32(at + 16)
            self.inside, self.changed = True, False
            self.begins(self.transaction, self.position)
            return 0
        if kind == c"C":
            need(at, past, 25)
            self.end = <int64_t>get64(at + 9)
            self.reached = max(self.reached, self.end)
            self.moment = <int64_t>get64(at + 17) + EPOCH
            self.inside = False
            return 1
        return 2

    cdef int _change(self, uint8_t kind, const uint8_t *at, const uint8_t *past) except -1:
        need(at, past, 5)
        cdef ChangeRows relation = <ChangeRows>self.relations.get(get32(at))
        at += 4
        if relation is None or relation.skips or self.position < relation.after:
            return 0
        cdef const uint8_t *first = at
        if kind == c"I":
            at = self._row(relation, INSERT, at + 1, past)
        elif kind == c"D":
            at = self._row(relation, DELETE, at + 1, past)
        else:
            if at[0] == c"K" or at[0] == c"O":
                at = self._row(relation, FORMER, at + 1, past)
                need(at, past, 1)
            at = self._row(relation, UPDATE, at + 1, past)
        self.size += at - first
        self.rows += 1
        self.changed = True
        return 0

    cdef const uint8_t *_row(self, ChangeRows relation, int kind, const uint8_t *at, const uint8_t *past) except NULL:
        cdef int number, count
        cdef int64_t size
        cdef uint8_t sent
        need(at, past, 2)
        count = get16(at)
        at += 2
        if count != relation.count:
            raise ValueError("a row of other columns than its table has")
        for number in range(count):
            need(at, past, 1)
            sent = at[0]
            at += 1
            if sent == c"t":
                need(at, past, 4)
                size = <int32_t>get32(at)
                at += 4
                if size < 0 or size > past - at:
                    raise ValueError("a row that is cut off")
                add_bytes(&relation.columns[number], at, size)
                at += size
            elif sent == c"n":
                add_null(&relation.columns[number])
            elif sent == c"u":
                add_null(&relation.columns[number])
                relation.unknown.append((relation.rows, number))
            else:
                raise ValueError("a value in a form that was not asked for")
        relation.close_row(kind, self._order, self.position, self.committed_at)
        self._order += 1
        return at


cdef inline int need(const uint8_t *at, const uint8_t *past, int64_t size) except -1:
    if past - at < size:
        raise ValueError("a message that is cut off")
    return 0
