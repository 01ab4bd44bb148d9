"""How an estate says whose the accounts of a platform are."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, StringConstraints, model_validator
from pydantic_core import PydanticCustomError

from justlane.files.reading.vocabulary import LOGIN_RULE, NamedPrincipal, Shape, Words

_KINDS = ("also user ", "user ")


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
    kind = next((k for k in (*_KINDS, "machine of ") if value.startswith(k)), "")
    if kind:
        return {kind.strip(): value.removeprefix(kind).strip()}
    if value == "gone":
        return {"gone": True}
    raise PydanticCustomError("account", "expected `user LOGIN`, `also user LOGIN`, `machine of group NAME` or `gone`")


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
