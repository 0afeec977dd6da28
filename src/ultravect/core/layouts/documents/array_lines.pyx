# cython: wraparound=True
"""Cuts the array of a JSON document that holds its rows into lines, one element each. What an element holds is not looked at."""

import json

from cpython.bytes cimport PyBytes_AS_STRING, PyBytes_FromStringAndSize, PyBytes_GET_SIZE

cdef int MAX_DEPTH = 1000

cdef enum:
    # on the way to the rows, and after them
    VALUE, KEY, IN_KEY, COLON, AFTER_VALUE, SKIPPED_STRING, SKIPPED_SCALAR, SKIPPED_DEEP, COMPLETE
    # among the rows
    ROW, ROW_SCALAR, ROW_STRING, ROW_DEEP, AFTER_ROW


cdef inline bint is_blank(unsigned char byte) noexcept nogil:
    return byte == 32 or byte == 10 or byte == 13 or byte == 9


cdef class ArrayLines:
    """The elements of the array that ``steps`` lead to, keys of objects or numbers of elements from the root.

    ``found``: whether the array was there; ``rows``: how many elements have begun. Raises ValueError, which says what is wrong with
    the structure of the document; a text of an element, or a number, is checked where its line is read.
    """

    cdef readonly bint found
    cdef readonly long rows
    cdef list _steps
    cdef list _open  # of each container on the way that is open: None for an object, the number of its element for an array
    cdef bytearray _key
    cdef int _state, _depth
    cdef bint _matched, _may_end, _in_string, _escaped

    def __init__(self, list steps):
        self._steps, self._open, self._key = steps, [], bytearray()
        self._state, self._matched = VALUE, True

    def finish(self) -> None:
        """To be called after the last bytes."""
        if self._state != COMPLETE and not (self._state == SKIPPED_SCALAR and not self._open):
            raise ValueError("the document ends before it is complete")

    def feed(self, bytes data) -> bytes:
        """The lines of what of the rows is in these bytes, the last one perhaps not whole."""
        cdef bytes out = PyBytes_FromStringAndSize(NULL, PyBytes_GET_SIZE(data))
        cdef const unsigned char *source = <const unsigned char *>PyBytes_AS_STRING(data)
        cdef unsigned char *target = <unsigned char *>PyBytes_AS_STRING(out)
        cdef Py_ssize_t size = PyBytes_GET_SIZE(data), at = 0, written = 0
        while at < size:
            if self._state >= ROW:
                at = self._take_rows(source, at, size, target, &written)
            else:
                at = self._look(source, at, size)
        return out[:written]

    cdef Py_ssize_t _take_rows(
        self, const unsigned char *source, Py_ssize_t at, Py_ssize_t size, unsigned char *target, Py_ssize_t *count
    ) except -1:
        cdef Py_ssize_t written = count[0]
        cdef unsigned char byte
        while at < size:
            byte = source[at]
            at += 1
            if self._in_string:
                if byte < 32:
                    raise ValueError("a text has a line end or another control character in it, which JSON writes as \\n and the like")
                target[written] = byte
                written += 1
                if self._escaped:
                    self._escaped = False
                elif byte == 92:
                    self._escaped = True
                elif byte == 34:
                    self._in_string = False
                    if self._state == ROW_STRING:
                        self._state = AFTER_ROW
            elif self._state == ROW_DEEP:
                if is_blank(byte):
                    if written and target[written - 1] == 32:
                        continue
                    byte = 32
                elif byte == 34:
                    self._in_string = True
                elif byte == 123 or byte == 91:
                    self._deeper()
                elif byte == 125 or byte == 93:
                    self._depth -= 1
                    if not self._depth:
                        self._state = AFTER_ROW
                target[written] = byte
                written += 1
            elif self._state == ROW_SCALAR and not (is_blank(byte) or byte == 44 or byte == 93):
                target[written] = byte
                written += 1
            elif is_blank(byte):
                if self._state == ROW_SCALAR:
                    self._state = AFTER_ROW
            elif byte == 93:
                if self._state == ROW and not self._may_end:
                    raise ValueError("a comma has nothing after it")
                if self._state != ROW:
                    target[written] = 10
                    written += 1
                self._state = AFTER_VALUE
                break
            elif self._state == ROW:
                self._begin_row(byte)
                target[written] = byte
                written += 1
            elif byte == 44:
                target[written] = 10
                written += 1
                self._state, self._may_end = ROW, False
            else:
                raise ValueError("there is no comma between two elements")
        count[0] = written
        if self._state == AFTER_VALUE:
            self._left_value()
        return at

    cdef int _begin_row(self, unsigned char byte) except -1:
        if byte == 44 or byte == 58 or byte == 125:
            raise ValueError(f"an element is expected, not {chr(byte)!r}")
        self.rows += 1
        if byte == 34:
            self._state, self._in_string = ROW_STRING, True
        elif byte == 123 or byte == 91:
            self._state, self._depth = ROW_DEEP, 1
        else:
            self._state = ROW_SCALAR
        return 0

    cdef int _deeper(self) except -1:
        self._depth += 1
        if self._depth > MAX_DEPTH:
            raise ValueError(f"it is nested more than {MAX_DEPTH:,} levels deep")
        return 0

    cdef int _left_value(self) except -1:
        if not self._open:
            self._state = COMPLETE
        return 0

    cdef Py_ssize_t _look(self, const unsigned char *source, Py_ssize_t at, Py_ssize_t size) except -1:
        cdef unsigned char byte
        while at < size and self._state < ROW:
            byte = source[at]
            at += 1
            if self._state == SKIPPED_DEEP or self._state == SKIPPED_STRING:
                self._skip(byte)
            elif self._state == IN_KEY:
                if self._escaped:
                    self._escaped = False
                elif byte == 92:
                    self._escaped = True
                elif byte == 34:
                    self._matched = self._step() == _text(self._key)
                    self._state = COLON
                    continue
                self._key.append(byte)
            elif self._state == SKIPPED_SCALAR and not (is_blank(byte) or byte == 44 or byte == 93 or byte == 125):
                continue
            elif is_blank(byte):
                if self._state == SKIPPED_SCALAR:
                    self._state = AFTER_VALUE
                    self._left_value()
            elif self._state == COMPLETE:
                raise ValueError("something stands after the end of the document")
            elif self._state == COLON:
                if byte != 58:
                    raise ValueError("there is no colon after a key")
                self._state, self._may_end = VALUE, False
            elif (byte == 125 or byte == 93) and (self._may_end or self._state in (AFTER_VALUE, SKIPPED_SCALAR)):
                self._close(byte)
            elif self._state == AFTER_VALUE or self._state == SKIPPED_SCALAR:
                if byte != 44 or not self._open:
                    raise ValueError("there is no comma between two values")
                self._next()
            elif self._state == KEY:
                if byte != 34:
                    raise ValueError("a key is expected, in double quotes")
                self._state = IN_KEY
                self._key.clear()
            else:
                self._begin_value(byte)
        return at

    cdef int _skip(self, unsigned char byte) except -1:
        if self._in_string or self._state == SKIPPED_STRING:
            if self._escaped:
                self._escaped = False
            elif byte == 92:
                self._escaped = True
            elif byte == 34:
                self._in_string = False
                if self._state == SKIPPED_STRING:
                    self._state = AFTER_VALUE
                    self._left_value()
        elif byte == 34:
            self._in_string = True
        elif byte == 123 or byte == 91:
            self._deeper()
        elif byte == 125 or byte == 93:
            self._depth -= 1
            if not self._depth:
                self._state = AFTER_VALUE
                self._left_value()
        return 0

    cdef int _begin_value(self, unsigned char byte) except -1:
        if byte == 44 or byte == 58 or byte == 125 or byte == 93:
            raise ValueError(f"a value is expected, not {chr(byte)!r}")
        if byte == 34:
            self._state = SKIPPED_STRING
        elif byte != 123 and byte != 91:
            self._state = SKIPPED_SCALAR
        elif self._matched and len(self._open) == len(self._steps) and byte == 91:
            if self.found:
                raise ValueError(f"{self._steps[-1]!r}, which leads to the rows, stands in it twice")
            self.found = self._may_end = True
            self._state = ROW
        elif self._matched and len(self._open) < len(self._steps):
            self._open.append(None if byte == 123 else 0)
            self._may_end = True
            if byte == 123:
                self._state = KEY
            else:
                self._state = VALUE
                self._matched = self._step() == "0"
        else:
            self._state, self._depth = SKIPPED_DEEP, 1
        return 0

    cdef str _step(self):
        return self._steps[len(self._open) - 1]

    cdef int _next(self) except -1:
        self._may_end = False
        if self._open[-1] is None:
            self._state = KEY
        else:
            self._open[-1] += 1
            self._state, self._matched = VALUE, self._step() == str(self._open[-1])
        return 0

    cdef int _close(self, unsigned char byte) except -1:
        if not self._open or (self._open[-1] is None) != (byte == 125):
            raise ValueError(f"{chr(byte)!r} closes nothing that is open")
        self._open.pop()
        self._state, self._may_end = AFTER_VALUE, False
        self._left_value()
        return 0


cdef str _text(bytearray key):
    try:
        return json.loads(b'"' + bytes(key) + b'"')
    except ValueError:
        raise ValueError(f"{bytes(key)[:40]!r} is no key") from None
