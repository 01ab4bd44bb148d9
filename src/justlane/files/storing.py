"""Writing files so that a reader, or a power cut, sees the old one or the new one and nothing between."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from justlane.model.errors import StorageError


def write_atomically(path: Path, content: bytes, mode: int = 0o644) -> None:
    """Replace `path` in one step, with its folders made. StorageError if that is impossible."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(content)
                file.flush()
                os.fsync(file.fileno())
            os.chmod(name, mode)
            os.replace(name, path)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
    except OSError as error:
        raise StorageError(f"{path} cannot be written: {error.strerror}") from error


def append_durably(path: Path, line: bytes) -> None:
    """Add one line to the end of `path` and wait until the disk has it."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("ab") as file:
            file.write(line.rstrip(b"\n") + b"\n")
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        raise StorageError(f"{path} cannot be written: {error.strerror}") from error
