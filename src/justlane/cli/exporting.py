"""`export`: everything that is allowed as Parquet files."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from justlane.cli import options
from justlane.cli.circumstances import circumstance_options, question
from justlane.cli.terminal import show

if TYPE_CHECKING:
    from justlane.engine.everywhere.access_table import AccessTable, Block
    from justlane.engine.facts.index import PlatformIndex
    from justlane.files.parquet import Columns, DataSet
    from justlane.reports.exported import Exported

PORTION = 1_000_000
"""Rows that are written at once."""


@click.command()
@click.argument("into", metavar="FOLDER", type=click.Path(path_type=Path))
@options.estate_option
@circumstance_options
@options.format_option("text", "json", "csv")
def export(into: Path, folder: Path | None, form: str, **given: Any) -> None:
    """Write all that is allowed as a data set of Parquet files, for an engine that reads them.

    People whom nothing tells apart are one class, and so are places; FOLDER gets who is in which class, and what each
    pair of classes may do in which circumstances. docs/export.md has the columns, and five queries.

    \b
    Example:
      justlane export access-today

    Ends with 0.
    """
    from justlane.engine.everywhere.access_table import AccessTable
    from justlane.files.parquet import writing

    index = options.indexed(folder)
    asked = question(index.estate, given)
    written = []
    with writing(into) as files:
        for name in index.estate.platforms:
            table = AccessTable(index, name, asked)
            written.append(_written(files, name, index.platform(name), table))
    show("Exported", tuple(written), form)


def _written(files: DataSet, name: str, prepared: PlatformIndex, table: AccessTable) -> Exported:
    from justlane.reports.exported import Exported

    actions = prepared.platform.actions.values()
    everybody = _in_portions(_people(table), len(table.logins))
    people = files.write("people", name, everybody, "* REPLACE (nullif(person_class, -1) AS person_class)")
    places = files.write("places", name, _in_portions(_places(table), len(table.addresses)))
    named: Columns = {
        "action": [a.name for a in actions],
        "means": [a.meaning for a in actions],
        "sensitive": [a.sensitive for a in actions],
    }
    files.write("actions", name, _in_portions(named, len(actions)))
    access = files.write("access", name, _access(table.blocks()))
    classes = int(table.person_classes.max(initial=-1)) + 1, len(set(table.place_classes.tolist()))
    return Exported(name, people, classes[0], places, classes[1], access)


def _people(table: AccessTable) -> Columns:
    return {"login": table.logins, "enabled": table.there, "person_class": table.person_classes}


def _places(table: AccessTable) -> Columns:
    return {"address": table.addresses, "kind": table.kinds, "place_class": table.place_classes}


def _in_portions(columns: Columns, rows: int) -> Iterator[Columns]:
    for start in range(0, max(rows, 1), PORTION):
        yield {name: values[start : start + PORTION] for name, values in columns.items()}


def _access(blocks: Iterator[Block]) -> Iterator[Columns]:
    """What pairs of classes may do, in portions; at least one, so that the table has its columns."""
    import numpy as np

    from justlane.reports.conditions import boxes_text

    waiting: list[tuple[Any, int, str, str]] = []
    count, first = 0, True

    def portion() -> Columns:
        sizes = [len(people) for people, *_ in waiting]
        places, actions, words = list(zip(*waiting, strict=True))[1:]
        place = np.repeat(np.array(places, np.int32), sizes)
        action, said = (np.repeat(np.array(column, object), sizes) for column in (actions, words))
        people = np.concatenate([people for people, *_ in waiting])
        return {
            "person_class": people,
            "place_class": place,
            "action": action,
            "always": said == "",
            "circumstances": said,
        }

    for block in blocks:
        for name, conditions in block.allowed:
            waiting.append((block.person_classes, block.place_class, name, boxes_text(conditions)))
            count += len(block.person_classes)
        if count >= PORTION:
            yield portion()
            waiting, count, first = [], 0, False
    if waiting or first:
        waiting = waiting or [(np.zeros(0, np.int32), 0, "", "")]
        yield portion()
