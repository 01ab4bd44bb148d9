"""How far reviews are: what is outstanding, by whom; what was decided; what changed since."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from justlane.engine.surveys.review import ReviewedGrant, Seat
from justlane.files.history.reviews import Asked, Review
from justlane.model.findings import Source
from justlane.model.names import counted
from justlane.reports.outputs.edits import ReviewStanding as ReviewStandingJson
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet

_MOST = 30


class ReviewState(Struct, frozen=True):
    """One review."""

    review: Review
    to_remove: tuple[Asked, ...]
    """Decided to be removed, and still there."""
    gone: tuple[Asked, ...]
    """Not in the estate any more."""
    new: tuple[Asked, ...]
    """In the estate since, for the same owner."""

    @property
    def outstanding(self) -> list[Asked]:
        """What nobody has answered, and is still there."""
        gone = {one.key for one in self.gone}
        return [one for one in self.review.outstanding if one.key not in gone]

    def decided(self, decision: str) -> int:
        """How many rows were decided so."""
        return sum(answer.decision == decision for answer in self.review.answers.values())


class ReviewStates(Struct, frozen=True):
    """All reviews."""

    reviews: tuple[ReviewState, ...]


def standing_of(one: Review, rows: Sequence[tuple[ReviewedGrant | Seat, Asked]]) -> ReviewState:
    """A review beside the estate as it is now."""
    current = {asked.key for _, asked in rows}
    mine = [asked for grant, asked in rows if one.owner in map(str, grant.owners)]
    known = {asked.key for asked in one.asked}
    remove = tuple(a for a in one.asked if a.key in one.answers and one.answers[a.key].decision == "remove")
    return ReviewState(
        one,
        tuple(a for a in remove if a.key in current),
        tuple(a for a in one.asked if a.key not in current),
        tuple(a for a in mine if a.key not in known),
    )


def plain(result: ReviewStates) -> list[ReviewStandingJson]:
    """The reviews as JSON values."""
    return [
        {
            "review": one.review.name,
            "owner": one.review.owner,
            "made": one.review.made,
            "by": one.review.by,
            "state": one.review.state,
            "asked": len(one.review.asked),
            "keep": one.decided("keep"),
            "remove": one.decided("remove"),
            "ask": one.decided("ask"),
            "outstanding": [str(asked) for asked in one.outstanding],
            "to_remove": [str(asked) for asked in one.to_remove],
            "gone": [str(asked) for asked in one.gone],
            "new": [str(asked) for asked in one.new],
            "answered_by": sorted({answer.by for answer in one.review.answers.values()}),
        }
        for one in result.reviews
    ]


def sheet(result: ReviewStates) -> Sheet:
    """One row for each review."""
    columns = ("review", "owner", "made", "asked", "keep", "remove", "ask", "outstanding", "to remove", "gone", "new")
    rows = [
        (
            one.review.name, one.review.owner, one.review.made, len(one.review.asked), one.decided("keep"),
            one.decided("remove"), one.decided("ask"), len(one.outstanding), len(one.to_remove), len(one.gone),
            len(one.new),
        )
        for one in result.reviews
    ]  # fmt: skip
    return Sheet(columns, rows)


def text(result: ReviewStates, look: Look) -> str:
    """The reviews for a person."""
    return render(_lines(result), look)


def _lines(result: ReviewStates) -> Iterator[Line]:
    for number, one in enumerate(result.reviews):
        if number:
            yield line()
        left = one.outstanding
        done = ("done", "yes") if not left and not one.to_remove else ("open", "warn")
        asked = counted(len(one.review.asked), "grant")
        yield line(done, f"  {one.review.name}  {asked} asked of {one.review.owner}, {one.review.made[:10]}")
        words = [f"{word} {one.decided(word)}" for word in ("keep", "remove", "ask")]
        by = sorted({answer.by for answer in one.review.answers.values()})
        answered = f", answered by {', '.join(by)}" if by else ""
        yield line(f"      {', '.join(words)}{answered}; outstanding {len(left)}")
        yield from _some("outstanding", left)
        yield from _some("to remove", one.to_remove)
        yield from _some("gone since", one.gone)
        yield from _some("new since", one.new)


def _some(what: str, some: Sequence[Asked]) -> Iterator[Line]:
    for asked in some[:_MOST]:
        file, _, number = asked.said["line"].rpartition(":")
        source = Source(file, int(number)) if number.isdigit() else None
        yield line((f"      {what:<12}", "dim"), str(asked), source=source, hanging=" " * 18)
    if len(some) > _MOST:
        yield line((f"      {what:<12}", "dim"), f"and {len(some) - _MOST:,} more")
