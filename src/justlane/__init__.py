"""Just Lane: declare who may do what where, ask, align the platforms, and prove it.

    import justlane

    estate = justlane.open('saltmarsh')
    estate.ask("imke.vos", "restart-station", "fieldnet/north/harbour/nb-07")["answer"]

What is in `__all__` stays; everything else may move. Loaded when it is used: `import justlane` itself costs nothing.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

__all__ = [
    "Edit",
    "Estate",
    "EstateError",
    "JustLaneError",
    "OutsideError",
    "RefusedError",
    "UsageError",
    "__version__",
    "check",
    "open",
]

if TYPE_CHECKING:
    from justlane.jobs.estate import Edit, Estate
    from justlane.jobs.estate import check_estate as check
    from justlane.jobs.estate import open_estate as open  # noqa: A004 - a caller says justlane.open
    from justlane.model.errors import EstateError, JustLaneError, OutsideError, RefusedError, UsageError

_JOBS = {"Edit": "Edit", "Estate": "Estate", "check": "check_estate", "open": "open_estate"}


def __getattr__(name: str) -> Any:
    if name in _JOBS:
        from justlane.jobs import estate

        return getattr(estate, _JOBS[name])
    if name in __all__:
        from justlane.model import errors

        return getattr(errors, name)
    raise AttributeError(f"module 'justlane' has no attribute {name!r}")
