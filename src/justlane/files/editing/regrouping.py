"""Lines put differently in the files: new ones where the first of those stood that they replace, all in one go."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence

from justlane.engine.facts.index import EstateIndex
from justlane.engine.regrouping.proposals import Regrouping
from justlane.files.building.bindings import BUNDLE
from justlane.files.editing.bindings import SECTION, NewLine, not_there, places_of
from justlane.files.editing.draft import Draft
from justlane.files.editing.many_lines import in_lists, products
from justlane.files.in_place.scalars import Value, few
from justlane.model.bindings import Binding
from justlane.model.findings import Source


def put_differently(draft: Draft, index: EstateIndex, proposals: Sequence[Regrouping]) -> None:
    """Write proposals into the files. RefusedError if a line stands where it cannot be changed."""
    gone = {id(b) for one in proposals for b in one.going}
    sources = {b.source for one in proposals for b in one.going}
    left: dict[Source, list[Binding]] = {source: [] for source in sources}
    for name in index.estate.platforms:
        for b in index.platform(name).bindings:
            if b.source in left and id(b) not in gone:
                left[b.source].append(b)
    new: dict[Source, list[dict[str, Value]]] = defaultdict(list)
    for one in proposals:
        first = min(b.source for b in one.going)
        here = {b.scope for b in one.going if b.here_only}
        for here_only in (False, True):
            words = [(role, str(to), scope) for to, role, scope in one.give if (scope in here) is here_only]
            like = NewLine((), (), _reason(one.going), here_only=here_only)
            new[first] += [line.value for line in in_lists(words, like)]
    for file in dict.fromkeys(source.file for source in sorted(sources)):
        document = draft.document(file)
        places, others = places_of(document), dict[int, Sequence[Value]]()
        for source in (source for source in sources if source.file == file):
            place = places.get(source.line)
            if place is None:
                raise not_there(source)
            entry: Mapping[str, Value] = document.node((SECTION, place)).plain  # type: ignore[assignment]
            others[place] = [*new.get(source, ()), *_what_is_left(entry, left[source])]
        document.rewrite((SECTION,), others)


def _what_is_left(entry: Mapping[str, Value], bindings: Iterable[Binding]) -> list[dict[str, Value]]:
    """An entry without some of what it says: as few entries as say the rest."""
    key = "give" if "give" in entry else "deny"
    words = dict.fromkeys(
        (f"{BUNDLE}{b.bundle}" if b.bundle else b.role, str(b.principal), "" if b.bundle else b.pattern or b.scope)
        for b in bindings
    )
    found = []
    for roles, to, at in products(words):
        said: dict[str, Value] = {**entry, key: few(roles), "to": few(to), "at": few(at)}
        if at == ("",):  # a bundle says itself where
            del said["at"]
        found.append(said)
    return found


def _reason(going: Iterable[Binding]) -> str:
    """What the lines said of themselves, if all said the same."""
    said = {b.reason for b in going}
    return said.pop() if len(said) == 1 else "Given to each of them alone before; the group says the same."
