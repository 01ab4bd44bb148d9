"""The kinds of text that estate files hold, and what all shapes of files share."""

from __future__ import annotations

from typing import Annotated, Any, Literal, TypeVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, StringConstraints

NAME = r"^([\w@+-][\w.@+-]*|\.[\w@+-][\w.@+-]*|\.\.[\w.@+-]+)$"
_UNSHOWN = r"\x00-\x1f\x7f-\x9f\u00ad\u0600-\u0605\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb"
_FIRST, _WITHIN, _LAST = rf"[^/.\s{_UNSHOWN}]", rf"[^/{_UNSHOWN}]", rf"[^/\s{_UNSHOWN}]"
_SCOPE_NAME = rf"{_FIRST}({_WITHIN}*{_LAST})?"
SCOPE_NAME = rf"^({_SCOPE_NAME}|\.{_SCOPE_NAME}|\.\.{_WITHIN}*{_LAST})$"
NAMED_PRINCIPAL = r"^(group|user) \S.*$"
OF_USER = r"^user \S.*$"
OF_GROUP = r"^group \S.*$"
ADDRESS = r"^https?://[^\s/?#@]+([/?#]\S*)?$"
REACHED = r"^(https?|postgresql|svn)://[^\s?#@]*([/?#]\S*)?$"
SECRET = r"^(environment|file|keyring) \S.*$"
UNBOUND = r"^(closed|open with \S+)$"
ROLE_AT = r"^\S+ at \S.*$"
LOGIN_RULE = r"^[^*\s]*\*[^*\s]*$"
GROUP_RULE = r"^[^*]*\*[^*]*$"
SPAN_OF_TIME = r"^[1-9]\d{0,4} (minute|hour|day|week)s?$"
LDAP_URL = r"^(ldaps?://(\[[0-9A-Fa-f:.]+\]|[^\s/?#@:\[\]]+)(:\d{1,5})?/?|ldapi://\S+)$"
SHARE = r"^(100|[1-9]?\d) ?%$"
CONDITION = r"^[A-Za-z][\w-]*( is \S.*| has bit \d{1,2}|)$"
DAY = r"^(mon|tue|wed|thu|fri|sat|sun)(-(mon|tue|wed|thu|fri|sat|sun))?$"
HOURS = r"^([01]\d|2[0-3]):[0-5]\d-(([01]\d|2[0-3]):[0-5]\d|24:00)$"
PRINCIPAL = r"^(group \S.*|local group \S.*|user \S.*|authenticated|anonymous)$"

PATTERNS = {
    PRINCIPAL: "`group NAME`, `local group NAME`, `user NAME`, `authenticated` or `anonymous`",
    NAME: "a name of letters, digits and . _ @ + - without spaces, that is not . or ..",
    SCOPE_NAME: "a name of printable characters without /, no space at its ends, that is not . or ..",
    NAMED_PRINCIPAL: "`group NAME` or `user NAME`",
    OF_USER: "`user NAME`",
    OF_GROUP: "`group NAME`",
    ADDRESS: "an address that starts with http:// or https://, without an account in it",
    SECRET: "`environment NAME`, `file PATH` or `keyring NAME`",
    LOGIN_RULE: "a login with one * for the login that the directory has, such as *.ext",
    GROUP_RULE: "a name with one * for the name that the directory has, such as ext-*",
    SPAN_OF_TIME: "a span such as 12 hours, 1 day or 2 weeks",
    LDAP_URL: "an address such as ldaps://HOST, ldap://HOST:PORT or ldapi://PATH, without an account in it",
    SHARE: "a share such as 50 %",
    CONDITION: "`ATTRIBUTE`, `ATTRIBUTE is VALUE`, `ATTRIBUTE is before today` or `ATTRIBUTE has bit NUMBER`",
    UNBOUND: "`closed` or `open with ROLE`",
    ROLE_AT: "`ROLE at SCOPE`",
    DAY: "a weekday (mon to sun) or a span such as mon-fri",
    HOURS: "hours such as 22:00-06:00",
}
"""Each pattern, and what it expects in words."""


def may_be_secret(pattern: str, value: Any) -> bool:
    """Whether a text that does not fit a pattern may be, or hold, a secret that was written there by mistake."""
    return pattern == SECRET or (pattern in (ADDRESS, LDAP_URL) and "@" in str(value))


def as_list(value: Any) -> Any:
    """One text is a list of one."""
    return [value] if isinstance(value, str) else value


Words = Annotated[str, StringConstraints(min_length=1, strip_whitespace=True)]
MOST_LETTERS = 200
Name = Annotated[str, StringConstraints(pattern=NAME, max_length=MOST_LETTERS)]
ScopeName = Annotated[str, StringConstraints(pattern=SCOPE_NAME, max_length=MOST_LETTERS)]
PrincipalText = Annotated[str, StringConstraints(pattern=PRINCIPAL, strip_whitespace=True)]
NamedPrincipal = Annotated[str, StringConstraints(pattern=NAMED_PRINCIPAL, strip_whitespace=True)]
YesNo = Annotated[bool, BeforeValidator(lambda value: value, json_schema_input_type=bool | Literal["yes", "no"])]
Value = Annotated[str, BeforeValidator(lambda value: value, json_schema_input_type=str | float | bool)]
Many = Annotated[tuple[Words, ...], BeforeValidator(as_list, json_schema_input_type=Words | list[Words])]
ManyPrincipals = Annotated[
    tuple[PrincipalText, ...],
    BeforeValidator(as_list, json_schema_input_type=PrincipalText | list[PrincipalText]),
]


Day = Annotated[str, StringConstraints(pattern=DAY)]
Span = Annotated[str, StringConstraints(pattern=HOURS)]
SpanOfTime = Annotated[str, StringConstraints(pattern=SPAN_OF_TIME)]


class Shape(BaseModel):
    """What all shapes share: unknown keys are errors, keys are spelt as in the files."""

    model_config = ConfigDict(extra="forbid", frozen=True)


S = TypeVar("S", bound=Shape)


def unsaid(shape: type[S]) -> S:
    """What a shape is where nothing is said."""
    return shape.model_validate({})
