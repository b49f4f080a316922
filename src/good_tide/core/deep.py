"""Walking trees of any depth: functions that would call themselves are written as generators, and run here
without recursion."""

from __future__ import annotations

from collections.abc import Generator
from typing import Any, TypeVar

Result = TypeVar("Result")
Deep = Generator["Deep[Any]", Any, Result]
"""A function that hands over a call of its kind with ``yield``, and gets what that returned: ``found = yield
self.below(entry)``."""


def walked(first: Deep[Result]) -> Result:
    """Run ``first`` and all that it hands over, and give what it returns; an error rises through them as
    through ordinary calls."""
    waiting: list[Deep[Any]] = [first]
    value: Any = None
    error: BaseException | None = None
    while waiting:
        try:
            below = waiting[-1].send(value) if error is None else waiting[-1].throw(error)
        except StopIteration as end:
            waiting.pop()
            value, error = end.value, None
        except BaseException as raised:
            waiting.pop()
            value, error = None, raised
        else:
            waiting.append(below)
            value, error = None, None
    if error is not None:
        raise error
    result: Result = value
    return result
