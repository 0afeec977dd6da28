"""Rows as MariaDB's C client gives them, tuples of bytes, into the buffers of Arrow columns: see ``read``."""

from cpython.bytes cimport PyBytes_AS_STRING, PyBytes_GET_SIZE
from cpython.tuple cimport PyTuple_GET_ITEM, PyTuple_GET_SIZE
from cpython.ref cimport PyObject
from libc.stdint cimport int16_t, int32_t, int64_t, uint8_t
from libc.string cimport memcpy

from ultravect.core.types.cells cimport ISO_FORM, read_date, read_decimal, read_integer, read_moment, read_time, wide
from ultravect.core.types.columns cimport Filling, add_bytes, add_null, begin, end, finished, next_value

cpdef enum:
    BYTES = 0
    BOOL = 1
    TWO = 2
    FOUR = 3
    EIGHT = 4
    DECIMAL = 5
    DATE = 6
    TIME = 7
    MOMENT = 8

cdef int *WIDTHS = [0, 1, 2, 4, 8, 16, 4, 8, 8]


def column_of(tuple rows, Py_ssize_t position, int code, int precision, int scale) -> list:
    """The buffers of the column at ``position`` of all rows; None where a value is not plainly of its type."""
    cdef Filling column
    cdef Py_ssize_t row
    cdef PyObject *value
    begin(&column, WIDTHS[code])
    try:
        for row in range(PyTuple_GET_SIZE(rows)):
            value = PyTuple_GET_ITEM(<object>PyTuple_GET_ITEM(rows, row), position)
            if value == <PyObject *>None:
                add_null(&column)
            elif not _add(
                &column, code, precision, scale,
                <const uint8_t *>PyBytes_AS_STRING(<object>value), PyBytes_GET_SIZE(<object>value),
            ):
                return None
        return finished(&column)
    finally:
        end(&column)


cdef bint _add(
    Filling *column, int code, int precision, int scale, const uint8_t *value, int64_t length
) except -1:
    cdef int64_t number
    cdef int32_t days
    cdef wide unscaled
    if code == BYTES:
        add_bytes(column, value, length)
        return True
    if code == DECIMAL:
        if not read_decimal(value, length, 46, precision, scale, &unscaled):
            return False
        memcpy(next_value(column), &unscaled, 16)
        return True
    if code == DATE:
        if not read_date(value, length, &ISO_FORM, &days):
            return False
        memcpy(next_value(column), &days, 4)
        return True
    if code == MOMENT or code == TIME:
        if not (read_moment(value, length, &ISO_FORM, &number) if code == MOMENT else read_time(value, length, &number)):
            return False
        memcpy(next_value(column), &number, 8)
        return True
    if not read_integer(value, length, &number):
        return False
    if code == EIGHT:
        memcpy(next_value(column), &number, 8)
    elif code == FOUR:
        days = <int32_t>number
        if days != number:
            return False
        memcpy(next_value(column), &days, 4)
    elif code == TWO:
        if number < -32768 or number > 32767:
            return False
        (<int16_t *>next_value(column))[0] = <int16_t>number
    else:
        if number < 0 or number > 1:
            return False
        next_value(column)[0] = <uint8_t>number
    return True
