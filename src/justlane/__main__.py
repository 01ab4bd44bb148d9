"""The `justlane` command, and `python -m justlane`: the same program."""

import sys


def start() -> None:
    """Run the command line; an interruption while it is still being loaded ends quietly too."""
    try:
        from justlane.cli.main import run
    except KeyboardInterrupt:
        sys.exit(3)
    run()


if __name__ == "__main__":
    start()
