"""Tables as a data set of Parquet files, written in portions beside its place; it gets its name when it is complete.

Parquet 2 (parquet.apache.org), by DuckDB, which is an extra of the package.
"""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from justlane.files.disk.durable import UNFINISHED
from justlane.model.errors import StorageError, UsageError

if TYPE_CHECKING:
    import duckdb

Columns = Mapping[str, Any]
"""Name of a column -> its values in a list, or a NumPy array of them."""


class DataSet:
    """Tables in a folder, each in a folder of its own, with a part for each portion."""

    def __init__(self, folder: Path, connection: duckdb.DuckDBPyConnection) -> None:
        self._folder, self._connection = folder, connection

    def write(self, table: str, platform: str, portions: Iterable[Columns], select: str = "*") -> int:
        """Write a table of a platform, as SQL selects it; how many rows it has."""
        import numpy as np

        where = self._folder / table / f"platform={quote(platform, safe='')}"
        where.mkdir(parents=True)
        self._connection.execute("SET python_enable_replacements = false")
        rows = 0
        for number, columns in enumerate(portions):
            arrays = {name: np.asarray(v, object if isinstance(v, list) else None) for name, v in columns.items()}
            self._connection.register("portion", arrays)
            path = str(where / f"part-{number:04}.parquet").replace("'", "''")
            query = f"COPY (SELECT {select} FROM portion) TO '{path}' (FORMAT parquet, COMPRESSION zstd)"
            self._connection.execute(query)
            self._connection.unregister("portion")
            rows += len(next(iter(arrays.values())))
        return rows


@contextmanager
def writing(folder: Path) -> Iterator[DataSet]:
    """A new data set in a folder that is not there yet. UsageError if it is, or DuckDB is missing; StorageError if it
    cannot be written."""
    try:
        import duckdb
    except ImportError as error:
        raise UsageError("export needs DuckDB, which is not installed", "pip install 'justlane[parquet]'") from error
    if os.path.lexists(folder):
        raise UsageError(f"{str(folder)!r} is there already", "name a folder that does not exist yet")
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        written = Path(tempfile.mkdtemp(prefix=UNFINISHED, dir=folder.parent))
        try:
            with duckdb.connect() as connection:
                yield DataSet(written, connection)
            os.rename(written, folder)
        finally:
            shutil.rmtree(written, ignore_errors=True)
    except (OSError, duckdb.Error) as error:
        reason = getattr(error, "strerror", None) or str(error).splitlines()[0]
        raise StorageError(f"{str(folder)!r} cannot be written: {reason}", "make room, or name another") from error
