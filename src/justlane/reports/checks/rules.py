"""The rules of `check`, with their severities and options; and the page of each."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from justlane.reports.outputs.changes import Rule as RuleJson
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet
from justlane.rules.inspection import Option
from justlane.rules.interface import RULES, Rule, rule


class Rules(Struct, frozen=True):
    """All rules, or some."""

    rules: tuple[str, ...] = tuple(RULES)


def says(module: Rule) -> str:
    """What a rule finds, in one sentence."""
    first = (module.__doc__ or "").strip().partition("\n\n")[0]
    return " ".join(first.split()).partition(": ")[2]


def default(option: Option) -> str:
    """What an option is where nobody sets it."""
    if isinstance(option.default, int):
        return str(option.default)
    return ", ".join(option.default) or "none"


def plain(result: Rules) -> list[RuleJson]:
    """The rules as JSON values."""
    return [
        {
            "rule": name,
            "severity": module.SEVERITY.value if module.SEVERITY else None,
            "says": says(module),
            "options": [
                {"option": key, "meaning": option.meaning, "default": default(option)}
                for key, option in module.OPTIONS.items()
            ],
        }
        for name, module in ((name, rule(name)) for name in result.rules)
    ]


def sheet(result: Rules) -> Sheet:
    """One row for each rule."""
    rows = [(one["rule"], one["severity"] or "none", one["says"]) for one in plain(result)]
    return Sheet(("rule", "severity", "says"), rows)


def text(result: Rules, look: Look) -> str:
    """The rules for a person."""
    return render(_lines(result), look)


def _lines(result: Rules) -> Iterator[Line]:
    width = max(len(name) for name in result.rules) + 2
    for one in plain(result):
        weight = one["severity"] or "none"
        yield line(
            (one["rule"].ljust(width), "name"), (f"{weight:<9}", "warn" if weight == "warning" else "dim"), one["says"],
            hanging=" " * (width + 9),
        )  # fmt: skip
        for option in one["options"]:
            told = f"{option['option']}: {option['meaning']} ({option['default']})"
            yield line((" " * (width + 9) + told, "dim"), hanging=" " * (width + 11))


def page(name: str) -> str:
    """The page of a rule, in Markdown, as it is published in docs/rules/."""
    module = rule(name)
    head, _, rest = (module.__doc__ or "").strip().partition("\n\n")
    parts = [f"# {name}", " ".join(head.split()).partition(": ")[2].capitalize()]
    body, _, samples = rest.partition("Passes:\n")
    passes, _, fails = samples.partition("Fails:\n")
    parts += [body.strip()] if body.strip() else []
    weight = module.SEVERITY.value if module.SEVERITY else "none: asked only where an estate sets one"
    parts.append(f"Severity: {weight}.")
    for key, option in module.OPTIONS.items():
        parts.append(f"Option `{key}`: {option.meaning}; {default(option)} where nobody sets it.")
    parts += ["Passes:", f"```yaml\n{_undented(passes)}\n```", "Fails:", f"```yaml\n{_undented(fails)}\n```"]
    return "\n\n".join(parts) + "\n"


def _undented(sample: str) -> str:
    return "\n".join(row.removeprefix("    ") for row in sample.strip("\n").rstrip().splitlines())
