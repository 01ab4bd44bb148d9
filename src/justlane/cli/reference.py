"""The reference of all commands as one page of Markdown, made from the commands themselves."""

from __future__ import annotations

from collections.abc import Iterator
from inspect import cleandoc

import click

_HEAD = """\
# Every command and option

Made from the commands by `justlane manual FOLDER --form markdown`. [Commands explained](commands.md) says what for.
"""


def reference(context: click.Context) -> str:
    """The page, for the command line as a whole."""
    return "\n".join((_HEAD, *_lines(context, 2)))


def _lines(context: click.Context, depth: int) -> Iterator[str]:
    command = context.command
    yield f"{'#' * min(depth, 4)} `{context.command_path}`\n"
    pieces = " ".join(command.collect_usage_pieces(context))
    for paragraph in cleandoc(command.help or "").split("\n\n"):
        if paragraph.startswith("\b"):
            head, _, rest = paragraph.lstrip("\b\n").partition("\n")
            yield f"{head}\n\n```text\n{rest}\n```\n"
        else:
            yield " ".join(paragraph.split()) + "\n"
    yield f"`{context.command_path} {pieces}`\n"
    records = [r for param in command.get_params(context) if (r := param.get_help_record(context))]
    if records:
        yield "| option | |\n|---|---|"
        yield "\n".join(f"| `{_cell(names)}` | {_cell(told)} |" for names, told in records) + "\n"
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            inner = command.get_command(context, name)
            if inner is not None:
                yield from _lines(click.Context(inner, info_name=name, parent=context), depth + 1)


def _cell(text: str) -> str:
    return " ".join(text.split()).replace("|", "\\|")
