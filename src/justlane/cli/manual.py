"""`manual` and `completion`: the pages of man(1), made from the commands, and completion in the shell."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from inspect import cleandoc
from pathlib import Path

import click
from click.shell_completion import (
    BashComplete,
    CompletionItem,
    FishComplete,
    ShellComplete,
    ZshComplete,
    add_completion_class,
)

from justlane import __version__
from justlane.cli.commands import LaneGroup
from justlane.cli.common.terminal import say, tell
from justlane.model.errors import UsageError
from justlane.model.shell import escaped

_ENDS = re.compile(r"^Ends with ")


@click.command()
@click.argument("folder", type=click.Path(path_type=Path))
@click.option(
    "--form", type=click.Choice(("man", "markdown")), default="man", show_default=True, help="For man, or a site."
)
def manual(folder: Path, form: str) -> None:
    """Write the manual pages (`man justlane`, `man justlane-check` …) into FOLDER/man1, or all of them as one page of
    Markdown, FOLDER/reference.md.

    \b
    Examples:
      justlane manual ~/.local/share/man
      man justlane-ask

    Ends with 0.
    """
    from justlane.cli.common import options
    from justlane.files.disk.durable import write_atomically

    context = click.Context(_top(), info_name="justlane", max_content_width=100)
    if form == "markdown":
        from justlane.cli.reference import reference

        top, place = options.top_and_name(folder / "reference.md")
        write_atomically(top, place, reference(context).encode())
        say(f"written: {folder / 'reference.md'}")
        return
    pages = dict(_pages(context))
    for name, page in pages.items():
        top, place = options.top_and_name(folder / "man1" / f"{name}.1")
        write_atomically(top, place, page.encode())
    say(f"written: {len(pages)} pages in {folder / 'man1'}")


def _pages(context: click.Context) -> Iterator[tuple[str, str]]:
    """The page of a command, and those of the commands under it."""
    command = context.command
    yield context.command_path.replace(" ", "-"), page_of(context)
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            inner = command.get_command(context, name)
            if inner is not None:
                yield from _pages(click.Context(inner, info_name=name, parent=context))


def page_of(context: click.Context) -> str:
    """One manual page, in the macros of man(7)."""
    command, name = context.command, context.command_path.replace(" ", "-")
    title = f'.TH "{name.upper()}" 1 "" "justlane {__version__}" "Just Lane"'
    paragraphs = cleandoc(command.help or "").split("\n\n")
    lines = [title, ".SH NAME", f"{_text(name)} \\- {_text(_first(paragraphs[0]))}", ".SH SYNOPSIS"]
    pieces = " ".join(command.collect_usage_pieces(context))
    lines += [f".B {_text(context.command_path)}", _text(pieces), ".SH DESCRIPTION"]
    ends: list[str] = []
    for paragraph in paragraphs:
        if _ENDS.match(paragraph):
            ends += [".SH EXIT STATUS", _flowing(paragraph)]
        elif paragraph.startswith("\b"):
            head, _, rest = paragraph.lstrip("\b\n").partition("\n")
            examples = head.rstrip(":") in ("Example", "Examples")
            lines += [
                ".SH EXAMPLES" if examples else f".PP\n{_text(head)}",
                ".nf",
                *map(_text, rest.splitlines()),
                ".fi",
            ]
        else:
            lines += [".PP", _flowing(paragraph)]
    lines += [*_options(context), *_commands(context), *ends]
    above = context.parent.command_path.replace(" ", "-") if context.parent else ""
    lines += [".SH SEE ALSO", f".BR {_text(above)} (1)"] if above else []
    return "\n".join(lines) + "\n"


def _top() -> click.Command:
    """The whole command line, as it was typed: it imports this module, so this module does not import it."""
    return click.get_current_context().find_root().command


def _first(paragraph: str) -> str:
    return " ".join(paragraph.split()).rstrip(".")


def _options(context: click.Context) -> Iterator[str]:
    records = [param.get_help_record(context) for param in context.command.get_params(context)]
    known = [record for record in records if record]
    if known:
        yield ".SH OPTIONS"
    for names, told in known:
        yield ".TP"
        yield f".B {_text(names)}"
        yield _flowing(told)


def _commands(context: click.Context) -> Iterator[str]:
    command = context.command
    if not isinstance(command, click.Group):
        return
    yield ".SH COMMANDS"
    for name in command.list_commands(context):
        inner = command.get_command(context, name)
        short = inner.get_short_help_str(100) if inner else ""
        summary = command.summary(name) if isinstance(command, LaneGroup) else short
        page = f"{context.command_path.replace(' ', '-')}-{name}"
        yield from (".TP", f".BR {_text(page)} (1)", _flowing(summary))


def _flowing(paragraph: str) -> str:
    return _text(" ".join(paragraph.split()))


def _text(line: str) -> str:
    """Text that means nothing to the formatter."""
    safe = line.replace("\\", "\\e").replace("-", "\\-").replace('"', "\\(dq")
    return f"\\&{safe}" if safe[:1] in (".", "'") else safe


class Bash(BashComplete):
    """Completion in bash, which puts a word on the line as it comes: so it comes escaped. zsh and fish escape it."""

    source_template = BashComplete.source_template.replace("read type", "read -r type").replace(
        "COMPREPLY+=($value)", 'COMPREPLY+=("$value")'
    )

    def format_completion(self, item: CompletionItem[str]) -> str:
        """One word, as it is to be typed."""
        return f"{item.type},{escaped(item.value)}"


class Fish(FishComplete):
    """Completion in fish: a name may hold a comma."""

    source_template = FishComplete.source_template.replace('string split ","', 'string split --max 1 ","')


_SHELLS: dict[str, type[ShellComplete]] = {"bash": Bash, "zsh": ZshComplete, "fish": Fish}
for _kind in _SHELLS.values():
    add_completion_class(_kind)


@click.command()
@click.argument("shell", type=click.Choice(list(_SHELLS)))
@click.option("--install", is_flag=True, help="Put it where the shell looks, for you alone.")
def completion(shell: str, install: bool) -> None:
    """Completion for SHELL: commands, options, and the names of people, groups, roles and places of the estate.

    Without --install the script is printed.

    \b
    Examples:
      justlane completion bash --install
      justlane completion fish > justlane.fish

    Ends with 0.
    """
    from justlane.files.disk.durable import write_atomically

    script = _SHELLS[shell](_top(), {}, "justlane", "_JUSTLANE_COMPLETE").source()
    if not install:
        tell(script.rstrip())
        return
    place, then = _place(shell)
    write_atomically(place.parent, place.name, script.encode())
    say(f"written: {place}; {then}")


def _own(variable: str, usual: str) -> Path:
    """A folder of the person's own. UsageError where nobody knows of any."""
    from justlane.files.allowed.own_settings import home_folder

    said, home = os.environ.get(variable), home_folder()
    if not said and home is None:
        message = "there is no folder of your own to put it into"
        raise UsageError(message, f"set HOME or {variable}, or print it: leave out --install")
    return Path(said) if said else (home or Path()) / usual


def _place(shell: str) -> tuple[Path, str]:
    """Where a shell looks for completion of the person's own, and what is to be done besides."""
    data, config = _own("XDG_DATA_HOME", ".local/share"), _own("XDG_CONFIG_HOME", ".config")
    if shell == "bash":
        return data / "bash-completion" / "completions" / "justlane", "new shells have it"
    if shell == "fish":
        return config / "fish" / "completions" / "justlane.fish", "new shells have it"
    folder = data / "zsh" / "site-functions"
    return folder / "_justlane", f"put fpath+=({folder}) before compinit in .zshrc, if it is not there"
