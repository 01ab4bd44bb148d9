"""Which files an estate has, each read and validated; what is wrong in one is left out, the rest goes on."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from types import MappingProxyType
from typing import TypeVar

from pydantic import ValidationError

from justlane.files.reading import complaints, yamltext
from justlane.files.reading.file_parts import Part
from justlane.files.reading.folder import ROOT, files_included
from justlane.files.reading.shapes import FILE_KINDS, EstateFile
from justlane.files.reading.vocabulary import Shape
from justlane.files.reading.yamltext import Plain, Text, Where
from justlane.model.findings import Finding

S = TypeVar("S", bound=Shape)
NOTHING: Mapping[str, Sequence[Part]] = MappingProxyType({})


@dataclass
class DeclaredFile:
    """One file: its text with positions, and its content if it could be understood."""

    text: Text
    shape: Shape | None
    left_out: set[str] = field(default_factory=set)
    """Names whose declaration was wrong and is missing from `shape`."""


@dataclass
class DeclaredFiles:
    """All files of an estate, the root first."""

    files: list[DeclaredFile]
    patterns: tuple[str, ...]
    """What `include` names."""
    missing: bool = False
    """Whether `include` names a file that is not there."""

    @property
    def root(self) -> EstateFile | None:
        """The root file's content."""
        shape = self.files[0].shape
        return shape if isinstance(shape, EstateFile) else None

    @property
    def complete(self) -> bool:
        """Whether every file is there and could be understood, at least in part."""
        return not self.missing and all(file.shape is not None for file in self.files)

    def of(self, kind: type[S]) -> Iterator[tuple[Text, S]]:
        """The files of one kind."""
        for file in self.files:
            if isinstance(file.shape, kind):
                yield file.text, file.shape

    def findings(self) -> list[Finding]:
        """Everything that is wrong with the files themselves."""
        return [finding for file in self.files for finding in file.text.findings]

    def left_out(self) -> set[str]:
        """Names whose declaration was wrong: naming them elsewhere is not a second mistake."""
        return {name for file in self.files for name in file.left_out}


def read_all(folder: Path) -> DeclaredFiles:
    """Read the root file and all that it includes."""
    root = _read(folder, ROOT)
    files = {ROOT: root}
    patterns: tuple[str, ...] = ()
    missing = False
    if isinstance(root.shape, EstateFile):
        patterns = root.shape.include
        for place, pattern in enumerate(patterns):
            names = files_included(folder, pattern)
            missing = missing or not names
            if not names:
                source = root.text.source("include", place)
                root.text.wrong(
                    "include",
                    source,
                    f"no file matches {pattern!r}",
                    "paths are relative to the estate's folder, and stay in it",
                )
            for name in names:
                files.setdefault(name, _read(folder, name) if name not in files else root)
    return DeclaredFiles(list(files.values()), patterns, missing)


def read_some(folder: Path, names: Sequence[str], known: Mapping[str, Sequence[Part]] = NOTHING) -> DeclaredFiles:
    """Read some of an estate's files alone; of those whose parts are `known`, what is another way now."""
    return DeclaredFiles([_read(folder, name, known.get(name, ())) for name in names], ())


def read_root(folder: Path) -> EstateFile | None:
    """The root file alone; None if it cannot be understood."""
    shape = _read(folder, ROOT).shape
    return shape if isinstance(shape, EstateFile) else None


def names_of_files(folder: Path) -> set[str]:
    """The root file and all that it includes, as far as it can be understood."""
    root = read_root(folder)
    return {ROOT, *(name for pattern in (root.include if root else ()) for name in files_included(folder, pattern))}


def _read(folder: Path, name: str, known: Sequence[Part] = ()) -> DeclaredFile:
    text = yamltext.read(folder, name, known)
    if text.value is None:
        return DeclaredFile(text, None)
    if not isinstance(text.value, dict):
        text.wrong("wrong-value", text.source(), "found a list or a text, expected a mapping with keys")
        return DeclaredFile(text, None)
    shape = _shape_of(text, name == ROOT)
    if shape is None:
        return DeclaredFile(text, None)
    return _validated(text, shape)


def _shape_of(text: Text, is_root: bool) -> type[Shape] | None:
    keys = text.value if isinstance(text.value, dict) else {}
    kind = "estate" if is_root else next((key for key in FILE_KINDS if key in keys), None)
    if kind is None or (kind == "estate" and not is_root):
        kinds = ", ".join(f"`{key}`" for key in list(FILE_KINDS)[1:])
        text.wrong(
            "file-kind", text.source(), f"this file has none of the keys {kinds}", "its kind shows in one of these keys"
        )
        return None
    return FILE_KINDS[kind]


def _validated(text: Text, shape: type[Shape]) -> DeclaredFile:
    """Validate; note what is wrong, leave it out and try again with the rest."""
    left_out: set[str] = set()
    value = text.value
    for attempt in range(2):
        try:
            return DeclaredFile(text, shape.model_validate(value), left_out)
        except ValidationError as error:
            if attempt:
                break
            places = {_part(where) for where in complaints.note(error, shape, text)}
            value = _without(value, places, left_out)
            text.close_gaps(places)
    return DeclaredFile(text, None, left_out)


_SECTIONS_OF_NAMES = {"actions", "roles", "scopes", "holds", "local groups", "bundles", "situations"}
_SECTIONS_OF_ITEMS = {"bindings", "expectations", "published", "ceilings"}


def _part(where: Where) -> Where:
    """The smallest declaration around a place: an item of a list, a named thing, or a whole section."""
    for end in range(len(where), 1, -1):
        if where[end - 2] in _SECTIONS_OF_ITEMS and isinstance(where[end - 1], int):
            return where[:end]
        if where[end - 2] in _SECTIONS_OF_NAMES:
            return where[:end]
    return where[:1]


def _without(value: Plain, places: set[Where], left_out: set[str], where: Where = ()) -> Plain:
    """A copy of a value with the parts at some places left out; their names are collected."""
    if isinstance(value, dict):
        left_out |= {key for key in value if (*where, key) in places}
        return {
            key: _without(item, places, left_out, (*where, key))
            for key, item in value.items()
            if (*where, key) not in places
        }
    if isinstance(value, list):
        return [
            _without(item, places, left_out, (*where, place))
            for place, item in enumerate(value)
            if (*where, place) not in places
        ]
    return value
