"""All that the directories know about one user or one group."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.questions.one_person_or_group import Belonging, Portrait
from justlane.engine.questions.settings import BroughtSetting
from justlane.model.estate import Setting
from justlane.model.names import some_of
from justlane.model.people import Group, LocalMember, Membership
from justlane.reports.outputs.people import Belonging as BelongingJson
from justlane.reports.outputs.people import Member as MemberJson
from justlane.reports.outputs.people import OneGroup as OneGroupJson
from justlane.reports.outputs.people import OneUser as OneUserJson
from justlane.reports.outputs.people import Setting as SettingJson
from justlane.reports.parts.chains import plain_source
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet
from justlane.reports.text.tables import table

_MOST_MEMBERS = 12


def plain(result: Portrait) -> OneUserJson | OneGroupJson:
    """The portrait as JSON values."""
    belongings = [_plain_belonging(belonging) for belonging in result.belongings]
    settings = [_plain_setting(brought) for brought in result.settings]
    if result.user:
        user = result.user
        return {
            "user": user.login,
            "name": user.name,
            "enabled": user.enabled,
            "id": user.id,
            "until": user.last_day.isoformat() if user.last_day else None,
            **plain_source(user.source),
            "in": belongings,
            "settings": settings,
        }
    group = result.group
    assert group is not None
    return {
        "group": group.name,
        "platform": result.platform or None,
        "for": group.purpose,
        "id": group.id if isinstance(group, Group) else "",
        **plain_source(group.source),
        "members": [_plain_member(member, result.purposes.get(member.member.name)) for member in group.members],
        "in": belongings,
        "settings": settings,
    }


def _plain_setting(brought: BroughtSetting) -> SettingJson:
    return {
        "platform": brought.platform,
        "setting": brought.setting.name,
        "value": brought.setting.value,
        "principal": str(brought.setting.principal),
        "kept": brought.setting.kept,
        "instead_of": [{"principal": str(s.principal), "value": s.value} for s in brought.instead_of],
        **plain_source(brought.setting.source),
    }


def _plain_member(member: Membership | LocalMember, purpose: str | None) -> MemberJson:
    reason, until = (member.reason, member.last_day) if isinstance(member, LocalMember) else ("", None)
    last = until.isoformat() if until else None
    return {"member": str(member.member), "reason": reason or None, "until": last, "for": purpose}


def _plain_belonging(belonging: Belonging) -> BelongingJson:
    return {
        "group": belonging.group,
        "platform": belonging.platform or None,
        "through": list(belonging.through),
        **plain_source(belonging.source),
    }


def sheet(result: Portrait) -> Sheet:
    """One row for each group that holds them."""
    rows = [
        (
            f"{b.platform}/{b.group}" if b.platform else b.group,
            " → ".join(b.through) or "directly",
            b.source.line_address,
        )
        for b in result.belongings
    ]
    return Sheet(("in group", "through", "line"), rows)


def text(result: Portrait, look: Look) -> str:
    """The portrait for a person."""
    head = render(_head(result), look)
    groups = "\n" + table(sheet(result), look) if result.belongings else "\nin no group\n"
    return head + groups + ("\n" + render(_settings(result), look) if result.settings else "")


def _settings(result: Portrait) -> Iterator[Line]:
    yield line(("besides roles", "head"))
    for brought in result.settings:
        setting = brought.setting
        own = setting.principal == result.principal and result.user is not None
        whose = "their own" + (", kept" if setting.kept else "") if own else f"from {setting.principal}"
        others = [_other(result, other) for other in brought.instead_of]
        more = f", not {', '.join(others)}" if others else ""
        told = f"  {setting.value}  {whose}{more}"
        yield line("  ", (f"{brought.platform} ", "dim"), setting.name, told, source=setting.source, hanging="    ")


def _other(result: Portrait, setting: Setting) -> str:
    whose = "their own" if setting.principal == result.principal else str(setting.principal)
    return f"{setting.value} ({whose})"


def _head(result: Portrait) -> Iterator[Line]:
    if result.user:
        user = result.user
        until = f"  until {user.last_day}, and nothing after that" if user.last_day else ""
        state = (until, "warn") if user.enabled else ("  disabled: may do nothing", "no")
        yield line((user.login, "head"), f"  {user.name}", state, source=user.source)
        yield from [line(f"  id {user.id}")] if user.id else []
    elif result.group:
        group = result.group
        local = (f"  local group of {result.platform}", "dim") if result.platform else ("", "")
        yield line((group.name, "head"), local, f"  {group.purpose}", source=group.source, hanging="  ")
        yield from [line(f"  id {group.id}")] if isinstance(group, Group) and group.id else []
        names = [_member(member) for member in group.members]
        yield line(f"  holds {some_of(names, _MOST_MEMBERS) or 'nobody'}", hanging="  ")
        for name, purpose in result.purposes.items():
            if purpose:
                yield line((f"    group {name}  ", "name"), (purpose, "dim"), hanging="      ")


def _member(member: Membership | LocalMember) -> str:
    name = str(member.member).removeprefix("user ")
    if isinstance(member, LocalMember) and (member.last_day or member.reason):
        until = f"until {member.last_day}" if member.last_day else ""
        return f"{name} ({': '.join(filter(None, (until, member.reason)))})"
    return name
