"""The page put together: one file, that asks for nothing from outside.

Everything that an estate says is escaped (Jinja2's autoescape, and JSON without `<` for the script), and a content
policy (CSP 3) allows just this style and this script, by their digests.
"""

from __future__ import annotations

import base64
import hashlib
import json
from typing import Any

from justlane.model.secrecy import without_secrets
from justlane.model.visible import json_visible
from justlane.reports.page.gathered import ReportPage, data_of, values_of


def page(what: ReportPage) -> bytes:
    """The page as UTF-8."""
    from jinja2 import Environment, PackageLoader, StrictUndefined

    environment = Environment(
        loader=PackageLoader("justlane.reports.page", ""), autoescape=True, undefined=StrictUndefined,
        trim_blocks=True, lstrip_blocks=True,
    )  # fmt: skip
    environment.filters["seen"] = _seen
    loader = environment.loader
    assert loader is not None
    style, script = (loader.get_source(environment, name)[0] for name in ("page.css", "page.js"))
    found = environment.get_template("page.html.j2").render(
        **values_of(what), style=style, script=script, policy=_policy(style, script),
        data=_embedded(data_of(what.index, what.moment)),
    )  # fmt: skip
    return without_secrets(found).encode("utf-8", "replace")


def _policy(style: str, script: str) -> str:
    allowed = {"style-src": style, "script-src": script}
    rules = ["default-src 'none'", "base-uri 'none'", "form-action 'none'"]
    rules += [f"{name} 'sha256-{_digest(text)}'" for name, text in allowed.items()]
    return "; ".join(rules)


def _digest(text: str) -> str:
    return base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()


def _embedded(data: dict[str, Any]) -> str:
    """JSON that no HTML can end."""
    text = json_visible(json.dumps(data, ensure_ascii=False, separators=(",", ":")))
    return text.replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026")


def _seen(text: object) -> str:
    """Text with its control characters made visible."""
    from justlane.model.visible import shown

    return shown(str(text))
