"""A group of commands: in the order in which they are declared, and with the nearest name for one that is unknown."""

from __future__ import annotations

import click


class OrderedGroup(click.Group):
    """Commands in the order of the work."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """In the order in which they were declared."""
        return list(self.commands)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """An unknown command is answered with the nearest one."""
        try:
            return super().resolve_command(ctx, args)
        except click.UsageError as error:
            from justlane.model.names import did_you_mean

            hint = did_you_mean(args[0], self.list_commands(ctx), f"`{ctx.command_path} --help` lists them")
            raise click.UsageError(f"there is no command {args[0]!r}: {hint}", ctx) from error
