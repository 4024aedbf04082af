"""Who gets which row of a data set.

Never reads a file or a database. Start reading at `table`.
"""

from dynamikos.core.dealing.deal import row_of
from dynamikos.core.dealing.table import Table, read_csv

__all__ = ["Table", "read_csv", "row_of"]
