"""Changes of one table of a log, column by column, as the decoder of the log adds them: see ``contracts.change_log.Changes``."""

import numpy as np

from libc.stdint cimport int64_t
from libc.stdlib cimport calloc, free

from ultravect.core.types.columns cimport Filling, begin, end, finished, next_value


cdef class ChangeRows:
    """Rows until they are taken out by ``finish``: a decoder adds one value to each of ``columns``, and then closes the row.

    ``widths``: the bytes of a value of each column, 0 for values of varying length. ``after``: transactions before this position are left
    out. ``skips``: the one under way is left out, too.
    """

    def __cinit__(self, widths):
        cdef int number
        self.count = len(widths)
        self.columns = <Filling *>calloc(max(self.count, 1), sizeof(Filling))
        if self.columns == NULL:
            raise MemoryError()
        for number in range(self.count):
            begin(&self.columns[number], widths[number])
        begin(&self._kinds, 1)
        begin(&self._order, 8)
        begin(&self._positions, 8)
        begin(&self._moments, 8)
        self.unknown = []

    def __dealloc__(self):
        cdef int number
        if self.columns != NULL:
            for number in range(self.count):
                end(&self.columns[number])
            free(self.columns)
        end(&self._kinds)
        end(&self._order)
        end(&self._positions)
        end(&self._moments)

    cdef int close_row(self, int kind, int64_t order, int64_t position, int64_t moment) except -1:
        next_value(&self._kinds)[0] = kind
        (<int64_t *>next_value(&self._order))[0] = order
        (<int64_t *>next_value(&self._positions))[0] = position
        (<int64_t *>next_value(&self._moments))[0] = moment
        self.rows += 1
        return 0

    def finish(self) -> tuple:
        """Row count, the buffers of each column, kinds, order, positions, moments, and (row, column) of values that were not said."""
        cdef int number
        rows, unknown = self.rows, self.unknown
        self.rows, self.unknown = 0, []
        columns = [finished(&self.columns[number]) for number in range(self.count)]
        kinds = np.frombuffer(finished(&self._kinds)[1], np.int8)
        order = np.frombuffer(finished(&self._order)[1], np.int64)
        positions = np.frombuffer(finished(&self._positions)[1], np.int64)
        moments = np.frombuffer(finished(&self._moments)[1], np.int64)
        return rows, columns, kinds, order, positions, moments, unknown
