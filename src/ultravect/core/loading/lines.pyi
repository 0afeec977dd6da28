import pyarrow as pa

TEXT: int
PLAIN: int
BOOL: int
TWO: int
FOUR: int
EIGHT: int
DECIMAL: int
DATE: int
TIME: int
MOMENT: int

def write_lines(rows: int, arrays: list[pa.Array], codes: list[int], scales: list[int]) -> bytes: ...
