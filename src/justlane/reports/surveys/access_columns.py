"""All that is allowed as columns of tables, in portions: for files that are read in parts."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from justlane.engine.surveys.access_table import AccessTable, Block
from justlane.files.disk.parquet import Columns
from justlane.model.estate import Platform
from justlane.reports.parts.conditions import boxes_text

PORTION = 1_000_000
"""Rows that are written at once."""


def people(table: AccessTable) -> Iterator[Columns]:
    """Everybody with their class, -1 for who may do nothing at all."""
    return _in_portions({"login": table.logins, "enabled": table.there, "person_class": table.person_classes})


def places(table: AccessTable) -> Iterator[Columns]:
    """All places with their class."""
    return _in_portions({"address": table.addresses, "kind": table.kinds, "place_class": table.place_classes})


def actions(platform: Platform) -> Iterator[Columns]:
    """The platform's actions."""
    declared = platform.actions.values()
    return _in_portions(
        {
            "action": [action.name for action in declared],
            "means": [action.meaning for action in declared],
            "sensitive": [action.sensitive for action in declared],
        }
    )


def _in_portions(columns: Columns) -> Iterator[Columns]:
    rows = len(next(iter(columns.values())))
    for start in range(0, max(rows, 1), PORTION):
        yield {name: values[start : start + PORTION] for name, values in columns.items()}


def access(blocks: Iterator[Block]) -> Iterator[Columns]:
    """What pairs of classes may do, in portions; at least one, so that the table has its columns."""
    waiting: list[tuple[Any, int, str, str]] = []
    count, first = 0, True
    for block in blocks:
        for name, conditions in block.allowed:
            waiting.append((block.person_classes, block.place_class, name, boxes_text(conditions)))
            count += len(block.person_classes)
        if count >= PORTION:
            yield _pairs(waiting)
            waiting, count, first = [], 0, False
    if waiting or first:
        waiting = waiting or [(np.zeros(0, np.int32), 0, "", "")]
        yield _pairs(waiting)


def _pairs(waiting: Sequence[tuple[Any, int, str, str]]) -> Columns:
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
