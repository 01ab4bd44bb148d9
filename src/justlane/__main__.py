"""`python -m justlane`: the same program as the `justlane` command."""

from justlane.cli.main import run

if __name__ == "__main__":
    run()
