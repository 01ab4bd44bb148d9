"""`serve`: answer others, from the estate."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

import click

from justlane.cli.common import options
from justlane.cli.common.options import typed
from justlane.cli.common.terminal import say
from justlane.directories.interface import read_people
from justlane.model.errors import UsageError
from justlane.model.estate import SecretPlace

_KINDS = ("environment", "file", "keyring")


@dataclass(frozen=True, kw_only=True)
class ServeOptions:
    """What `serve` is given."""

    processes: int | None
    token_from: str | None
    certificate: str | None
    key: str | None
    client_authority: str | None
    most_bytes: int
    most_evaluations: int
    url: str
    log_requests: bool
    readable: bool


@click.command()
@options.estate_option
@click.option("--listen", metavar="HOST:PORT", default="127.0.0.1:8480", show_default=True, help="Where to listen.")
@click.option("--processes", type=click.IntRange(1, 256), default=None, help="So many; one for each processor.")
@click.option("--token-from", metavar="PLACE", help="`environment NAME`, `file PATH` or `keyring NAME` has the token.")
@click.option("--certificate", type=click.Path(exists=True, dir_okay=False), help="The server's certificates (PEM).")
@click.option("--key", type=click.Path(exists=True, dir_okay=False), help="Its private key (PEM).")
@click.option(
    "--client-authority", type=click.Path(exists=True, dir_okay=False), help="Let in who has a certificate of these."
)
@click.option("--most-bytes", type=click.IntRange(1024), default=1 << 20, show_default=True, help="Of a request.")
@click.option("--most-evaluations", type=click.IntRange(1), default=1000, show_default=True, help="In one request.")
@click.option("--url", default="", help="How others reach it, where that is another address than it listens on.")
@click.option("--log-requests", is_flag=True, help="Log each request and decision, by ids alone.")
@click.option("--readable", is_flag=True, help="Not encrypted, although it is not this machine alone that may ask.")
@typed(ServeOptions)
def serve(folder: Path | None, listen: str, given: ServeOptions) -> None:
    """Answer the OpenID Authorization API 1.0 from the estate: evaluation, evaluations, and the three searches.

    It reads kept files only, so any number of machines can run it side by side. When the estate or its people change,
    they are read again without a request being lost; what is not sound any more does not replace what was.

    \b
    Examples:
      justlane serve --token-from 'file secrets/serve.token'
      justlane serve --listen 0.0.0.0:8480 --certificate host.pem --key host.key --client-authority callers.pem

    Runs until it is stopped, and ends with 0; with 3 if it cannot listen.
    """
    from justlane.files.opening.index import open_index
    from justlane.outside.secrets import is_loopback, own, require_ascii
    from justlane.serving.application import ServiceLimits
    from justlane.serving.processes import ServicePlan, Transport, serve

    place = options.folder_of(folder)
    host, port = _address(listen)
    if not given.token_from and not given.client_authority:
        raise UsageError("nobody would be kept out", "give --token-from PLACE, or --client-authority FILE, or both")
    if given.client_authority and not given.certificate:
        raise UsageError("--client-authority needs an encrypted connection", "give --certificate and --key too")
    if not given.certificate and not is_loopback(host) and not given.readable:
        hint = "give --certificate and --key, or say --readable if something in front of it encrypts"
        raise UsageError(f"others than this machine may ask at {host}, and nothing is encrypted", hint)
    token = ""
    if given.token_from:
        secret = _place(given.token_from)
        token = require_ascii(own(secret, place), secret)
    transport = Transport(host, port, given.certificate or "", given.key or "", given.client_authority or "")
    plan = ServicePlan(
        place,
        lambda: open_index(place, read_people),
        transport,
        given.processes or os.cpu_count() or 1,
        token,
        ServiceLimits(given.most_bytes, given.most_evaluations),
        say,
        given.log_requests,
        _url(given.url),
    )
    serve(plan, lambda url: say(f"answering at {url} in {plan.processes} processes; stop it with Ctrl-C"))


def _address(text: str) -> tuple[str, int]:
    host, _, port = text.rpartition(":")
    if not host or not port.isdecimal() or int(port[:6]) > 65535:
        raise UsageError(f"--listen: found {text!r}, expected a host and a port", "write it like 127.0.0.1:8480")
    return host.strip("[]"), int(port)


def _url(text: str) -> str:
    from justlane.files.reading.vocabulary import ADDRESS

    if text and not re.fullmatch(ADDRESS, text):
        raise UsageError(f"--url: found {text!r}", "write it like https://access.saltmarsh.example")
    return text.rstrip("/")


def _place(text: str) -> SecretPlace:
    found = SecretPlace.of(text)
    if found.kind not in _KINDS or not found.name:
        raise UsageError(
            "--token-from: found something else", "write `environment NAME`, `file PATH` or `keyring NAME`"
        )
    return found
