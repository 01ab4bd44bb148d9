"""The one door to the terminal: what it is like, and everything that is written on it.

Whatever arrives here is shown as signs that can be read: control characters, and secrets that are in force, never get
through, whoever wrote them. Only our own styles become colours.
"""

from __future__ import annotations

import errno
import os
import sys
from contextlib import suppress
from typing import Any

import click

from justlane.model.errors import EstateError, JustLaneError, StorageError
from justlane.model.secrecy import without_secrets
from justlane.model.visible import short, visible_lines
from justlane.reports.interface import present
from justlane.reports.text.look import Look

MISTAKE = 4
"""How a command ends on a mistake of ours: nothing that a script could take for an answer, or for a silent server."""

_STYLES: dict[str, dict[str, Any]] = {
    "yes": {"fg": "green", "bold": True},
    "no": {"fg": "red", "bold": True},
    "warn": {"fg": "yellow"},
    "name": {"fg": "cyan"},
    "head": {"bold": True},
    "dim": {"fg": "bright_black"},
    "tree": {"fg": "bright_black"},
}
_NUMBERS = list(_STYLES)
_width_of_files = 100
_LONGEST = 4000
_MARK = f"\ufdd0{os.urandom(8).hex()}"
"""Begins and ends a piece of text with a style; nobody outside can guess it."""


def paint(text: str, style: str) -> str:
    """Text in one of the styles, as marks that `write` turns into colours."""
    return f"{_MARK}{_NUMBERS.index(style)}{text}{_MARK}_"


def plain(text: str, style: str) -> str:
    """Text without any style."""
    return text


_WANTED = {"colour": "auto", "plain": os.environ.get("JUSTLANE_PLAIN", "") not in ("", "0"), "pager": "auto"}
_DRAWN = {"├": " ", "└": " ", "│": " ", "─": " ", "·": "-", "→": "->", "…": "..."}
"""What is drawn rather than said, with what stands for it where it is read aloud."""
_ALOUD = str.maketrans(_DRAWN)


def colour(wanted: str) -> None:
    """Colours `always`, `never`, or `auto`: where somebody looks with a terminal that knows them."""
    _WANTED["colour"] = wanted


def plainly() -> None:
    """Without colours, lines, bars and progress, row after row: for screen readers."""
    _WANTED["plain"] = True


def is_plain() -> bool:
    """Whether nothing is to be drawn."""
    return bool(_WANTED["plain"])


def pager(wanted: str) -> None:
    """Long output through a pager where somebody looks (`auto`), or `never`."""
    _WANTED["pager"] = wanted


def has_colours(stream: Any) -> bool:
    """Whether what is written on a stream has colours (no-color.org)."""
    if is_plain():
        return False
    if _WANTED["colour"] != "auto":
        return _WANTED["colour"] == "always"
    return is_terminal(stream) and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"


def is_terminal(stream: Any) -> bool:
    """Whether somebody looks at a stream; nobody does at one that is closed."""
    try:
        return stream is not None and bool(stream.isatty())
    except (ValueError, OSError):
        return False


def relay(width: int) -> None:
    """From now on, what goes to a file is shown on something so wide later."""
    global _width_of_files
    _width_of_files = width


def look(*, err: bool = False) -> Look:
    """How text is to look on standard output, or on standard error."""
    stream = sys.stderr if err else sys.stdout
    if not is_terminal(stream):
        return Look(_width_of_files, paint if has_colours(stream) else plain, is_plain())
    from shutil import get_terminal_size

    return Look(get_terminal_size().columns, paint if has_colours(stream) else plain, is_plain())


def write(text: str, *, err: bool = False) -> None:
    """Write text as it is to be seen. StorageError if standard output cannot take it.

    A reader who has gone away changes nothing about the answer: the rest is written to nobody.
    """
    stream = sys.stderr if err else sys.stdout
    if stream is None:
        return
    try:
        stream.write(_seen(text))
        stream.flush()
    except BrokenPipeError:
        _to_nobody(stream)
    except (OSError, ValueError) as error:
        _to_nobody(stream)
        if err or isinstance(error, ValueError) or error.errno == errno.EBADF:
            return
        raise StorageError(f"standard output cannot be written: {error.strerror}", "make room, then again") from error


def _seen(text: str) -> str:
    """Text as it leaves: without secrets and control characters, with colours of our own."""
    pieces = without_secrets(text).split(_MARK)
    shown = [visible_lines(pieces[0])]
    for piece in pieces[1:]:
        style, words = piece[:1], visible_lines(piece[1:])
        shown.append(words if style == "_" else click.style(words, **_STYLES[_NUMBERS[int(style)]]))
    return "".join(shown)


def _is_long(text: str) -> bool:
    """Whether somebody looks at a terminal on which not all of it can be seen at once."""
    if _WANTED["pager"] == "never" or is_plain() or os.environ.get("TERM") == "dumb":
        return False
    if not (is_terminal(sys.stdout) and is_terminal(sys.stdin)):
        return False
    from shutil import get_terminal_size

    return text.count("\n") >= get_terminal_size().lines


def _to_nobody(stream: Any) -> None:
    """Nothing that is still waiting to be written shall fail once more when the program ends."""
    with suppress(OSError, ValueError):
        nobody = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nobody, stream.fileno())
        os.close(nobody)


def show(kind: str, result: Any, form: str) -> None:
    """Write a result to standard output in one of the formats; through a pager if it is long and somebody looks."""
    text = present(kind, result, form, look())
    if form != "text":
        write(text)
        return
    aloud = text.translate(_ALOUD) if is_plain() else text
    if _is_long(aloud):
        os.environ.setdefault("LESS", "-FRX")
        click.echo_via_pager(_seen(aloud), color=True)
    else:
        write(aloud)


def tell(text: str = "") -> None:
    """A line on standard output."""
    write(f"{text}\n")


def say(text: str) -> None:
    """A remark, on standard error."""
    write(f"{text}\n", err=True)


def warn(text: str) -> None:
    """Something worth knowing, on standard error."""
    say(f"{look(err=True).paint('warning:', 'warn')} {text}")


def may_ask() -> bool:
    """Whether there is somebody to ask: a terminal to read from, and one to write the question on."""
    return is_terminal(sys.stdin) and is_terminal(sys.stderr)


def answer_to(question: str) -> str:
    """What the person answers to a question on standard error."""
    write(f"{question} ", err=True)
    line = sys.stdin.readline()
    if not line:
        raise click.Abort
    return line.strip()


def complain(message: str, hint: str) -> None:
    """An error, and what to do, on standard error; on a terminal it is broken between words."""
    seen = look(err=True)
    message, hint = short(message, _LONGEST), short(hint, _LONGEST)
    if is_terminal(sys.stderr):
        from justlane.reports.text.lines import line, render

        lines = [line(("error:", "no"), f" {message}", hanging="  ")]
        lines += [line(("  →", "dim"), f" {hint}", hanging="    ")] if hint else []
        write(render(lines, seen), err=True)
        return
    say(f"{seen.paint('error:', 'no')} {message}")
    if hint:
        say(f"  {seen.paint('→', 'dim')} {hint}")


def confess(error: Exception) -> None:
    """A mistake of ours: say so in one line; the details go to whoever asks for them."""
    if "JUSTLANE_DETAILS" in os.environ:
        import traceback

        write("".join(traceback.format_exception(error)), err=True)
    hint = "please report it, with what JUSTLANE_DETAILS=1 prints when you run it again"
    complain(f"this is a mistake in justlane itself: {type(error).__name__}: {error}", hint)


def explain(error: JustLaneError) -> None:
    """Show one of our errors; a wrong estate with everything that is wrong in it."""
    if isinstance(error, EstateError):
        from justlane.reports.parts.findings import finding_lines

        write(finding_lines(error.findings, look(err=True)), err=True)
    complain(error.message, error.hint or ("correct them, then try again" if isinstance(error, EstateError) else ""))
