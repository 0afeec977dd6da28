"""What the MariaDB C client can do and its Python driver does not offer: which local file a server is given, and the cipher.

A server may ask its client for any local file, in answer to any statement. Here it gets what is written into one pipe, while
one statement lasts, and only by the name that this statement has for it.
"""

from libc.string cimport memset, strcmp, strncpy
from posix.unistd cimport read as read_fd

cdef extern from "mysql.h":
    ctypedef struct MYSQL:
        pass
    void mysql_set_local_infile_handler(
        MYSQL *, int (*)(void **, const char *, void *) noexcept nogil, int (*)(void *, char *, unsigned int) noexcept nogil,
        void (*)(void *) noexcept nogil, int (*)(void *, char *, unsigned int) noexcept nogil, void *
    )
    const char *mysql_get_ssl_cipher(MYSQL *)
    const char *mysql_get_server_info(MYSQL *)
    unsigned long mysql_thread_id(MYSQL *)


cdef extern from *:
    """
    /* how the driver lays out its connection: the client's own structure comes first */
    typedef struct { PyObject_HEAD MYSQL connection; } driver_connection;
    #define CLIENT_OF(object) (&((driver_connection *) (object))->connection)
    """
    MYSQL *CLIENT_OF(object connection)


cdef struct Offer:
    int descriptor
    char name[64]


cdef int _begin(void **state, const char *name, void *offer) noexcept nogil:
    state[0] = offer
    return 0 if (<Offer *> offer).descriptor >= 0 and strcmp(name, (<Offer *> offer).name) == 0 else 1


cdef int _read(void *offer, char *buffer, unsigned int size) noexcept nogil:
    return <int> read_fd((<Offer *> offer).descriptor, buffer, size)


cdef void _end(void *offer) noexcept nogil:
    pass


cdef int _refused(void *offer, char *message, unsigned int size) noexcept nogil:
    strncpy(message, "the server asked for a file that it was not offered", size)
    return 2000


cdef MYSQL *_client(object connection) except NULL:
    cdef MYSQL *client = CLIENT_OF(connection)
    if mysql_get_server_info(client) != connection.get_server_info().encode() or mysql_thread_id(client) != connection.thread_id():
        raise RuntimeError("the MariaDB driver lays out its connections in another way than this version of Ultravect knows")
    return client


cdef class LocalFiles:
    """Which local file a connection's server may have: none, until ``offer``. To be made before the first statement."""

    cdef Offer _offer

    def __init__(self, connection):
        memset(&self._offer, 0, sizeof(Offer))
        self._offer.descriptor = -1
        mysql_set_local_infile_handler(_client(connection), _begin, _read, _end, _refused, &self._offer)

    def offer(self, bytes name, int descriptor):
        """What is read from ``descriptor`` is given to a server that asks for ``name``, at most 63 bytes."""
        strncpy(self._offer.name, name, 63)
        self._offer.descriptor = descriptor

    def withdraw(self):
        self._offer.descriptor = -1


def cipher(connection) -> str:
    """The cipher that the client itself uses, whatever the server says; "" where nothing is encrypted."""
    cdef const char *name = mysql_get_ssl_cipher(_client(connection))
    return name.decode() if name else ""
