"""`standin` and `meddle`: a simulated platform on this machine, and making it misbehave."""

from __future__ import annotations

import os
import signal
import sys
import threading
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

import click
import msgspec

from justlane.cli.common import arguments, options
from justlane.cli.common.permission import ask_person
from justlane.cli.common.terminal import say
from justlane.jobs import known
from justlane.model.errors import UnreachableError, UsageError
from justlane.model.estate import Estate, Platform, RolesHeld
from justlane.standin.faults import MISBEHAVIOURS

if TYPE_CHECKING:
    from justlane.standin.site import Nature


def _address(platform: Platform, port: int | None) -> tuple[str, int]:
    """Host and port of the platform's own url; only this machine's own addresses."""
    if platform.connection is None:
        raise UsageError(
            f"the estate does not say how {platform.name} is reached", "add a `reached by` section to its file"
        )
    url = urlsplit(platform.connection.url)
    if url.hostname not in ("127.0.0.1", "localhost", "::1"):
        raise UsageError(
            f"{platform.connection.source}: a stand-in runs on this machine only, found {url.hostname}", "use 127.0.0.1"
        )
    return url.hostname, port or url.port or 80


def nature_of(estate: Estate, name: str) -> Nature:
    """What the platform is by itself, for a stand-in."""
    from justlane.engine.facts.index import EstateIndex
    from justlane.platforms.over_http.dialect import plain_binding
    from justlane.standin.site import Binding, Manner, Nature

    declared = estate.platforms[name]
    habits = declared.habits
    built_in = [b for b in EstateIndex(estate).platform(name).bindings if b.built_in]
    return Nature(
        kinds={scope.address: scope.kind for scope in declared.scopes.values()},
        gathers={s.address: [g.address for g in s.gathers] for s in declared.scopes.values() if s.gathers},
        implies={action.name: [implied.text for implied in action.implies] for action in declared.actions.values()},
        applies={action.name: list(action.applies_to) for action in declared.actions.values()},
        manner=Manner(
            habits.decides,
            habits.open_role,
            habits.sign_in,
            habits.on_the_way,
            habits.roles_held is RolesHeld.ONE_AT_A_TIME,
            habits.publication,
            estate.time_zone,
        ),
        built_in=[msgspec.convert(plain_binding(b, 0), Binding) for b in built_in],
    )


@click.command()
@arguments.platform_argument
@options.estate_option
@click.option(
    "--port", type=click.IntRange(1, 65535), help="Listen here rather than at the port of the platform's url."
)
@click.option(
    "--state",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Keep what it holds in FILE, not in the estate's standin folder.",
)
@click.option("--while-open", is_flag=True, hidden=True, help="Stop when standard input ends.")
def standin(platform: str, folder: Path | None, port: int | None, state: Path | None, while_open: bool) -> None:
    """Run a simulated PLATFORM on this machine until it is stopped.

    It has the scopes and actions that the estate declares, decides with code of its own, and starts out holding
    nothing: `justlane align` fills it. It needs the token that the estate names.

    \b
    Example:
      justlane standin fieldnet
    """
    import uvicorn

    from justlane.outside.secrets import own, require_ascii
    from justlane.standin.server import StandIn
    from justlane.standin.shelf import Shelf, open_standin

    estate, place = options.open_estate(folder, whole=True).estate, options.folder_of(folder)
    declared = estate.platforms[known.platform_named(estate, platform)]
    host, number = _address(declared, port)
    assert declared.connection is not None
    if declared.connection.token is None:
        hint = "add `token from: file secrets/NAME.token` to its `reached by`"
        raise UsageError(f"{declared.connection.source}: {platform} names no token", hint)
    secret = require_ascii(own(declared.connection.token, place), declared.connection.token)
    nature = nature_of(estate, platform)
    shelf = Shelf(*options.top_and_name(state)) if state else Shelf(place, f"standin/{platform}.json")
    app = StandIn(open_standin(shelf, platform, nature), shelf, secret).app()
    if while_open:
        threading.Thread(target=_stop_at_the_end, daemon=True).start()
    say(f"the stand-in for {platform} listens at http://{host}:{number}; stop it with Ctrl-C")
    try:
        uvicorn.run(app, host=host, port=number, log_level="error", access_log=False, timeout_graceful_shutdown=1)
    except SystemExit:
        raise UnreachableError(
            f"port {number} cannot be listened at", "is a stand-in running already? or use --port"
        ) from None


def _stop_at_the_end() -> None:
    """Whoever started us holds the other end of standard input, and is gone when it closes."""
    sys.stdin.buffer.read()
    os.kill(os.getpid(), signal.SIGTERM)


@click.command()
@arguments.platform_argument
@click.argument("kind", type=click.Choice(list(MISBEHAVIOURS)))
@click.argument("detail", nargs=-1)
@options.estate_option
def meddle(platform: str, kind: str, detail: tuple[str, ...], folder: Path | None) -> None:
    """Make the running stand-in of PLATFORM misbehave, to see what align and probe find.

    \b
    grant USER ROLE SCOPE             a binding made behind one's back
    stale-role ROLE [ACTION]          a role that goes on working as it is now, or keeps one more action
    hidden-grant USER ACTION SCOPE    works although nothing gives it
    hidden-refusal USER ACTION SCOPE  fails although something gives it
    two-faced USER ACTION SCOPE       answers no and lets it happen
    telling-totals                    totals that count what the person may not see
    slow, hang, nonsense              answers late; never; rubbish
    none                              behave again

    \b
    Example:
      justlane meddle fieldnet grant tamsin.quill station-keeper fieldnet/south
    """
    from justlane.platforms.interface import connect
    from justlane.platforms.over_http.session import HttpConnector

    estate = options.open_estate(folder).estate
    declared = estate.platforms[known.platform_named(estate, platform)]
    connector = connect(declared, options.folder_of(folder), ask_person)
    if not isinstance(connector, HttpConnector):
        raise UsageError(f"{platform} is not a stand-in", "only stand-ins can be meddled with")
    connector.misbehave(kind, " ".join(detail))
    connector.close()
    say(
        f"{platform} now misbehaves: {kind} {' '.join(detail)}".rstrip()
        if kind != "none"
        else f"{platform} behaves again"
    )
