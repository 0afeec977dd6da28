"""See ``change_rows.pyx``."""

from libc.stdint cimport int64_t

from ultravect.core.types.columns cimport Filling

cdef enum:
    INSERT = 1
    UPDATE = 2
    DELETE = 3
    FORMER = 4


cdef class ChangeRows:
    cdef Filling *columns
    cdef Filling _kinds, _order, _positions, _moments
    cdef readonly int count
    cdef readonly int64_t rows
    cdef public int64_t after
    cdef public bint skips
    cdef list unknown

    cdef int close_row(self, int kind, int64_t order, int64_t position, int64_t moment) except -1
