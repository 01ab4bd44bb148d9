"""Commands that change an estate's files: each shows what it would do, asks, and saves."""
