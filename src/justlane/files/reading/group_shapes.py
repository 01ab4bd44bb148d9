"""How an estate says who is in a group that a platform keeps for itself."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any

from pydantic import BeforeValidator, Field

from justlane.files.reading.vocabulary import NamedPrincipal, Shape, Words, as_list


class LocalMemberShape(Shape):
    """A member of a local group."""

    member: NamedPrincipal = Field(description="`group NAME` or, as an exception, `user NAME`.")
    because: Words = Field("", description="Why it is a member.")
    last_day: date | None = Field(None, alias="until", description="The last day on which it is.")


def _members(value: Any) -> Any:
    return [{"member": item} if isinstance(item, str) else item for item in as_list(value)]


class LocalGroupShape(Shape):
    """A group that a platform keeps for itself."""

    purpose: Words = Field("", alias="for", description="Who is in it.")
    holds: Annotated[
        tuple[LocalMemberShape, ...],
        BeforeValidator(
            _members,
            json_schema_input_type=NamedPrincipal | LocalMemberShape | list[NamedPrincipal | LocalMemberShape],
        ),
    ] = Field(description="Directory groups (`group NAME`) and, as an exception, users with a reason and an end.")
