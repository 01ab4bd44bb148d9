"""The shape of what `--format json` writes. Stable: a change here is a change for every script.

`docs/json.md` says what each key means.
"""
