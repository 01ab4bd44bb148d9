"""The `justlane` command, and `python -m justlane`: the same program."""

import gc
import os
import sys


def start() -> None:
    """Run the command line; an interruption while it is still being loaded ends quietly too."""
    gc.set_threshold(100_000, 20, 100)  # what is made stays until the answer is written: looking for garbage finds none
    try:
        _fill_gaps()
        from justlane.cli.main import run
    except KeyboardInterrupt:
        sys.exit(3)
    run()


def _fill_gaps() -> None:
    """Where a standard stream is closed, no file that is opened later shall take its place."""
    while (handle := os.open(os.devnull, os.O_RDWR)) < 3:
        pass
    os.close(handle)


if __name__ == "__main__":
    start()
