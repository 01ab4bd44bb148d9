"""How an estate says whose the accounts of a platform are, and who is in the groups that it keeps for itself."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, StringConstraints, model_validator
from pydantic_core import PydanticCustomError

from justlane.files.reading.vocabulary import LOGIN_RULE, NamedPrincipal, Shape, Words, as_list
from justlane.model.accounts import WHOSE, kind_and_whom


class AccountShape(Shape):
    """Whose one account is."""

    user: Words = Field("", description="The login of whose own account it is.")
    also_user: Words = Field("", alias="also user", description="The login of whose second account it is.")
    machine_of: NamedPrincipal | None = Field(None, alias="machine of", description="Who answers for a machine's.")
    gone: Literal[True] | None = Field(None, description="Nobody's any more.")
    because: Words = Field("", description="Why there is such an account.")

    @model_validator(mode="after")
    def _one(self) -> AccountShape:
        """It is one person's, a machine's, or nobody's."""
        if sum(map(bool, (self.user, self.also_user, self.machine_of, self.gone))) != 1:
            raise PydanticCustomError("account", "an account is somebody's, a machine's, or gone: one of these")
        return self


def _from_text(value: Any) -> Any:
    """`user LOGIN`, `also user LOGIN`, `machine of PRINCIPAL` and `gone`, in one line."""
    if not isinstance(value, str):
        return value
    said = kind_and_whom(value)
    if said is None:
        raise PydanticCustomError("account", f"expected {WHOSE}")
    kind, whom = said
    return {kind.value: whom or True}


class AccountsShape(Shape):
    """How the accounts of a platform are people."""

    taken_from: Literal["login", "id"] = Field(
        "login", alias="from", description="What an account is called after: the login, or what never changes."
    )
    becomes: Annotated[str, StringConstraints(pattern=LOGIN_RULE)] = Field(
        "*", description="What it is called: * is what is taken."
    )
    written: Literal["as they are", "small letters", "capitals"] = Field(
        "as they are", description="How the platform writes names."
    )
    known: dict[
        Words, Annotated[AccountShape, BeforeValidator(_from_text, json_schema_input_type=Words | AccountShape)]
    ] = Field({}, description="Accounts, as the platform writes them, each with whose it is.")


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
