"""The files of rules that were there before changes, so that what is taken back is byte for byte what it was."""

from __future__ import annotations

import os
from pathlib import Path

from justlane.files.disk.beneath import CLOSED, is_file, open_folder, read
from justlane.files.disk.durable import write_atomically
from justlane.platforms.alignment.readings import FOLDER, MOST
from justlane.platforms.subversion.rules_file import RulesFile, digest_of, parse_rules

_MARK = "rules-"


def remember(folder: Path, platform: str, content: bytes) -> None:
    """Keep a file beside the readings, which stay out of git; the newest few stay."""
    if not is_file(folder, f"{FOLDER}/.gitignore"):
        write_atomically(folder, f"{FOLDER}/.gitignore", b"*\n", CLOSED)
    write_atomically(folder, f"{FOLDER}/{platform}/{_MARK}{digest_of(content)}", content, CLOSED)
    with open_folder(folder, (FOLDER, platform)) as handle:
        kept = [name for name in os.listdir(handle) if name.startswith(_MARK)]
        kept.sort(key=lambda name: os.stat(name, dir_fd=handle).st_mtime_ns)
        for name in kept[:-MOST]:
            os.unlink(name, dir_fd=handle)


def as_it_was(folder: Path, platform: str, file: RulesFile) -> bytes | None:
    """A file that was there before and says the same as one, with all that others wrote in it; None without one."""
    try:
        with open_folder(folder, (FOLDER, platform)) as handle:
            kept = [name for name in os.listdir(handle) if name.startswith(_MARK)]
    except OSError:
        return None
    for name in sorted(kept):
        try:
            content = read(folder, f"{FOLDER}/{platform}/{name}")
            if (
                digest_of(content) == name.removeprefix(_MARK)
                and parse_rules(content, file.repository).sense() == file.sense()
            ):
                return content
        except (OSError, ValueError):
            continue
    return None
