"""Asking a disk that may hang."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, TypeVar

Answer = TypeVar("Answer")


class Patient:
    """Calls in a thread of its own, and gives up after a while. Until what it gave up has come back, nothing
    else waits.

    :param seconds: how long a call may take.
    """

    def __init__(self, seconds: float) -> None:
        self._seconds = seconds
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="read")
        self._stuck: Future[Any] | None = None

    def __call__(self, call: Callable[[], Answer]) -> Answer:
        """What it answers.

        Raises:
            TimeoutError: nothing, in that time. Whatever the call raises.
        """
        if self._stuck is not None and not self._stuck.done():
            raise TimeoutError
        asked = self._thread.submit(call)
        try:
            return asked.result(self._seconds)
        except TimeoutError:
            self._stuck = asked
            raise
