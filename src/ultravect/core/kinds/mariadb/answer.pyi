BYTES: int
BOOL: int
TWO: int
FOUR: int
EIGHT: int
DECIMAL: int
DATE: int
TIME: int
MOMENT: int

def column_of(
    rows: tuple[tuple[bytes | None, ...], ...], position: int, code: int, precision: int, scale: int
) -> list[bytes | None] | None: ...
