"""Tables of test data: reading them, making columns, keeping them in blocks, and who gets which
row.

Never reads a file or a database. Start reading at `deal`.
"""

from dynamikos.core.dealing.blocks import (
    BLOCK_ROWS,
    Block,
    decode_row,
    pack,
    packed,
    raw_rows,
    unpack,
)
from dynamikos.core.dealing.counting import Facts, count_columns
from dynamikos.core.dealing.deal import Cell, Deal, drawing, row_of, shuffled, slice_of, used_up_s
from dynamikos.core.dealing.generate import ColumnRule, column
from dynamikos.core.dealing.reading import (
    SAMPLE,
    Form,
    Reading,
    Table,
    detect,
    read_table,
    secret_columns,
)
from dynamikos.core.dealing.rewriting import Rewrite, rewritten

__all__ = [
    "BLOCK_ROWS",
    "SAMPLE",
    "Block",
    "Cell",
    "ColumnRule",
    "Deal",
    "Facts",
    "Form",
    "Reading",
    "Rewrite",
    "Table",
    "column",
    "count_columns",
    "decode_row",
    "detect",
    "drawing",
    "pack",
    "packed",
    "raw_rows",
    "read_table",
    "rewritten",
    "row_of",
    "secret_columns",
    "shuffled",
    "slice_of",
    "unpack",
    "used_up_s",
]
