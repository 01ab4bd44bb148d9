"""The commands of the command line: where each lives, what it is for, and how it is loaded when it is used."""

from __future__ import annotations

from importlib import import_module

import click

from justlane.cli.common.command_group import OrderedGroup

COMMANDS = {
    "new": "justlane.cli.editing.new",
    "check": "justlane.cli.questions.check",
    "people": "justlane.cli.people",
    "ask": "justlane.cli.questions.ask",
    "reach": "justlane.cli.questions.ask",
    "holders": "justlane.cli.questions.who_has_what",
    "given": "justlane.cli.questions.who_has_what",
    "role": "justlane.cli.editing.roles",
    "grid": "justlane.cli.questions.who_has_what",
    "glance": "justlane.cli.questions.who_has_what",
    "chart": "justlane.cli.questions.chart",
    "report": "justlane.cli.questions.report",
    "suggest": "justlane.cli.editing.suggest",
    "give": "justlane.cli.editing.give",
    "deny": "justlane.cli.editing.give",
    "withdraw": "justlane.cli.editing.give",
    "publish": "justlane.cli.editing.groups",
    "unpublish": "justlane.cli.editing.groups",
    "local-group": "justlane.cli.editing.groups",
    "scope": "justlane.cli.editing.scopes",
    "expect": "justlane.cli.editing.expect",
    "tidy": "justlane.cli.editing.tidy",
    "regroup": "justlane.cli.editing.regroup",
    "survey": "justlane.cli.platforms.survey",
    "accounts": "justlane.cli.platforms.accounts",
    "review": "justlane.cli.review",
    "undo": "justlane.cli.editing.undo",
    "journal": "justlane.cli.editing.undo",
    "compare": "justlane.cli.questions.compare",
    "tally": "justlane.cli.questions.tally",
    "verify": "justlane.cli.questions.check",
    "export": "justlane.cli.questions.export",
    "align": "justlane.cli.platforms.align",
    "drift": "justlane.cli.platforms.drift",
    "probe": "justlane.cli.platforms.probe",
    "connector": "justlane.cli.platforms.connector",
    "serve": "justlane.cli.platforms.serve",
    "trust": "justlane.cli.platforms.trust",
    "schema": "justlane.cli.editing.new",
    "manual": "justlane.cli.manual",
    "completion": "justlane.cli.manual",
    "standin": "justlane.cli.platforms.standin",
    "meddle": "justlane.cli.platforms.standin",
    "demo": "justlane.cli.platforms.demo",
}
"""Name of a command -> the module that it lives in, in the order of a day's work."""

SUMMARIES = {
    "new": "Write a small commented estate to start from.",
    "check": "Is the estate sound: files, names, references, and all that the rules watch?",
    "people": "Who is there: read the directories, look at people and groups, see what changed.",
    "ask": "May this user do this action here? Why, or why not?",
    "reach": "What may this user do, and where?",
    "holders": "Who may do this action here, and through what? Who may do anything here?",
    "given": "What is given to this user or group, directly or through others?",
    "role": "What does a role hold, who has it, which fits; make one, let it allow more or less.",
    "grid": "Who may do this action where: everybody beside every place.",
    "glance": "Everybody beside everything: nothing, something or everything, on each platform.",
    "chart": "Administrators, sensitive actions, roles, flows and changes, as a table or a picture.",
    "report": "The whole estate as one page, for whoever looks after it or takes it over.",
    "suggest": "What is the smallest change that would give, or take away, exactly this?",
    "give": "Give a role to somebody at a place.",
    "deny": "Take a role away from somebody at a place, whoever gives it.",
    "withdraw": "Take back what a line gives.",
    "publish": "Let a group count at a scope.",
    "unpublish": "Let a group no longer count at a scope.",
    "local-group": "A platform's own groups: a new one, somebody in, somebody out.",
    "scope": "The tree of places: a new one, one moved, what a resource group gathers.",
    "expect": "Write down what must hold.",
    "tidy": "The fewest lines that say the same: what can go without changing anything.",
    "regroup": "Which fewer lines, carried by groups, say exactly the same?",
    "survey": "What does a platform hold today, whatever of it is declared?",
    "accounts": "Whose are the accounts of a platform?",
    "review": "Owners look through what is given: workbooks out and in, and what is outstanding.",
    "undo": "Take back the last edit.",
    "journal": "What was edited: who, when, why, and what that did.",
    "compare": "What changes from one estate to another, or between two people?",
    "tally": "How much is allowed at all, counted exactly?",
    "verify": "Do the estate's expectations hold?",
    "export": "Write all that is allowed as Parquet files.",
    "align": "Make a platform match what is declared.",
    "drift": "Where do platforms differ from what is declared, and what does that mean for whom?",
    "probe": "Try, as the people, whether the platform really does what is declared.",
    "connector": "Which kinds of platform there are, what each can express; test one.",
    "serve": "Answer others over HTTP: the OpenID Authorization API 1.0.",
    "trust": "What you have allowed: which secret may go where, which files may be read.",
    "schema": "Write a JSON Schema for each kind of estate file.",
    "manual": "Write the manual pages: man justlane.",
    "completion": "Completion in bash, zsh and fish, installed by one command.",
    "standin": "Run a simulated platform on this machine.",
    "meddle": "Make a running stand-in misbehave, to see what align and probe find.",
    "demo": "Write the sample estate and walk through the whole job.",
}


class LaneGroup(OrderedGroup):
    """A group of commands whose modules are imported when one of them is used."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """In the order of a day's work."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Import the command's module."""
        if cmd_name not in COMMANDS:
            return None
        module, name = import_module(COMMANDS[cmd_name]), cmd_name.replace("-", "_")
        command = getattr(module, f"{name}_", None) or getattr(module, name)
        return command if isinstance(command, click.Command) else None

    def summary(self, name: str) -> str:
        """What a command is for, in a line, without importing it."""
        return SUMMARIES[name]

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The list of commands, without importing any."""
        with formatter.section("Commands"):
            formatter.write_dl(list(SUMMARIES.items()))
