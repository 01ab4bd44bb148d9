"""`export`: everything that is allowed as Parquet files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from justlane.cli.common import options
from justlane.cli.common.circumstances import circumstance_options
from justlane.cli.common.options import typed
from justlane.cli.common.terminal import show
from justlane.jobs.circumstances import question
from justlane.model.circumstances import Circumstances

if TYPE_CHECKING:
    from justlane.engine.facts.index import PlatformIndex
    from justlane.engine.surveys.access_table import AccessTable
    from justlane.files.disk.parquet import DataSet
    from justlane.reports.surveys.exported import Exported


@click.command()
@click.argument("into", metavar="FOLDER", type=click.Path(path_type=Path))
@options.estate_option
@circumstance_options
@options.format_option("text", "json", "csv")
@typed(Circumstances)
def export(into: Path, folder: Path | None, form: str, given: Circumstances) -> None:
    """Write all that is allowed as a data set of Parquet files, for an engine that reads them.

    People whom nothing tells apart are one class, and so are places; FOLDER gets who is in which class, and what each
    pair of classes may do in which circumstances. docs/export.md has the columns, and five queries.

    \b
    Example:
      justlane export access-today

    Ends with 0.
    """
    from justlane.engine.surveys.access_table import AccessTable
    from justlane.files.disk.parquet import writing

    index = options.open_estate(folder)
    asked = question(index.estate, given)
    written = []
    with writing(into) as files:
        for name in index.estate.platforms:
            table = AccessTable(index, name, asked)
            written.append(_written(files, name, index.platform(name), table))
    show("Exported", tuple(written), form)


def _written(files: DataSet, name: str, prepared: PlatformIndex, table: AccessTable) -> Exported:
    from justlane.reports.surveys import access_columns
    from justlane.reports.surveys.exported import Exported

    everybody = access_columns.people(table)
    people = files.write("people", name, everybody, "* REPLACE (nullif(person_class, -1) AS person_class)")
    places = files.write("places", name, access_columns.places(table))
    files.write("actions", name, access_columns.actions(prepared.platform))
    access = files.write("access", name, access_columns.access(table.blocks()))
    classes = int(table.person_classes.max(initial=-1)) + 1, len(set(table.place_classes.tolist()))
    return Exported(name, people, classes[0], places, classes[1], access)
