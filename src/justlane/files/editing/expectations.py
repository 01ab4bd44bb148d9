"""Expectations in the files: a new one beside its likes."""

from __future__ import annotations

from collections.abc import Sequence

from justlane.files.editing.bindings import place_of
from justlane.files.editing.draft import Draft
from justlane.files.in_place.scalars import Value
from justlane.files.reading.folder import ROOT
from justlane.model.expectations import AnyExpectation, NobodyMayBoth, UserMay, UserMayNot
from justlane.model.findings import Source
from justlane.model.scopes import platform_of

SECTION = "expectations"


def expect(draft: Draft, known: Sequence[AnyExpectation], said: dict[str, Value], user: str, platform: str) -> Source:
    """A new expectation, behind the last one about the same user or, if there is none, the same platform; its line."""
    best: tuple[tuple[int, int], AnyExpectation] | None = None
    for number, expectation in enumerate(known):
        about = isinstance(expectation, (UserMay, UserMayNot)) and expectation.user == user
        there = any(platform_of(duty.scope) == platform for duty in expectation.duties)
        both = isinstance(expectation, NobodyMayBoth)
        likeness = 4 * about + 2 * there - both
        if best is None or (likeness, number) > best[0]:
            best = (likeness, number), expectation
    if best is None:
        document = draft.document(ROOT)
        place = len(document.node((SECTION,)).items) if document.has((SECTION,)) else 0
        if document.has((SECTION,)):
            document.insert((SECTION,), place, said)
        else:
            document.put((SECTION,), [said])
        return Source(ROOT, document.line((SECTION, place)))
    document = draft.document(best[1].source.file)
    place = place_of(document, best[1].source, SECTION) + 1
    document.insert((SECTION,), place, said)
    return Source(document.file, document.line((SECTION, place)))
