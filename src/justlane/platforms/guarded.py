"""What other packages' connectors do wrong is told as theirs: with their name, and where they come from."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import wraps
from types import GeneratorType
from typing import Any

from justlane.model.errors import ForeignMistakeError, JustLaneError

_TALKS = ("change", "attempt")
"""What connectors and sessions have, and no value has."""


def guarded(some: Any, whose: str) -> Any:
    """A module, a dialect, a connector or a session of another package, all calls of which are watched."""
    return _Guarded(some, whose)


class _Guarded:
    """Hands everything on; what a call returns is guarded too if it is an object of theirs."""

    def __init__(self, some: Any, whose: str) -> None:
        self._some, self._whose = some, whose

    def __getattr__(self, name: str) -> Any:
        found = getattr(self._some, name)
        if callable(found) and not isinstance(found, type):
            return _watched(found, self._whose)
        return _Guarded(found, self._whose) if name == "DIALECT" else found


def _watched(call: Callable[..., Any], whose: str) -> Callable[..., Any]:
    @wraps(call)
    def called(*some: Any, **named: Any) -> Any:
        try:
            result = call(*some, **named)
        except JustLaneError:
            raise
        except Exception as error:
            raise _mistake(error, whose) from error
        if isinstance(result, GeneratorType):
            return _each(result, whose)
        return _Guarded(result, whose) if any(hasattr(result, name) for name in _TALKS) else result

    return called


def _each(some: Iterator[Any], whose: str) -> Iterator[Any]:
    while True:
        try:
            item = next(some)
        except StopIteration:
            return
        except JustLaneError:
            raise
        except Exception as error:
            raise _mistake(error, whose) from error
        yield item


def _mistake(error: Exception, whose: str) -> ForeignMistakeError:
    said = f"the connector {whose} made a mistake of its own: {type(error).__name__}: {error}"
    hint = "report it to whoever made that package; JUSTLANE_DETAILS=1 shows where it stands"
    return ForeignMistakeError(said, hint)
