"""The long work of the agent: one thing after the other, in a thread of its own."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from good_tide.core.errors import GoodTideError, PlaceError, StoppedError, of_system
from good_tide.core.progress import Progress, Steering, WorkKind
from good_tide.protocol.agent_calls import Work, WorkEnded, WorkGoesOn
from good_tide.protocol.contract import Note
from good_tide.system.memory import give_back
from good_tide.system.priority import step_back

Tell = Callable[[Note], None]


class Worker:
    """Runs one piece of work at a time and tells how it goes.

    :param tell: told how it goes about ten times a second, and how it ended.
    """

    def __init__(self, tell: Tell) -> None:
        self._tell = tell
        self._lock = threading.Lock()
        self._steering: Steering | None = None
        self._thread: threading.Thread | None = None
        self._what = WorkKind.SNAPSHOT
        self._progress = Progress("")
        self._started = 0.0
        self._told_at = 0.0

    @property
    def current(self) -> Work | None:
        """What is being done now."""
        with self._lock:
            if self._steering is None:
                return None
            return Work(
                self._what,
                self._steering.paused,
                self._progress,
                time.monotonic() - self._started,
                self._steering.easy,
            )

    def start(self, what: WorkKind, job: Callable[[Steering], WorkEnded], behind: bool = False) -> None:
        """Begin some work.

        :param behind: with the lowest priority for processor and disks, as nobody waits for it.

        Raises:
            PlaceError: other work is being done.
        """
        with self._lock:
            if self._steering is not None:
                raise PlaceError(f"A {self._what} is being done already", "Wait until it is done, or stop it")
            self._steering = Steering(self._report)
            self._what, self._progress, self._started = what, Progress("Starting"), time.monotonic()
            self._thread = threading.Thread(target=self._run, args=(job, self._steering, behind), name=what)
            self._thread.start()

    def _run(self, job: Callable[[Steering], WorkEnded], steering: Steering, behind: bool) -> None:
        what = self._what
        try:
            if behind:
                step_back()
            ended = job(steering)
        except StoppedError as error:
            ended = WorkEnded(what, words=str(error))
        except GoodTideError as error:
            ended = WorkEnded(what, error=str(error))
        except OSError as error:
            ended = WorkEnded(what, error=str(of_system(error)))
        except Exception as error:
            ended = WorkEnded(what, error=f"A fault in the program: {error!r}")
            self._end(ended)
            raise
        self._end(ended)

    def _end(self, ended: WorkEnded) -> None:
        with self._lock:
            self._steering = None
        self._tell(ended)
        give_back()

    def _report(self, progress: Progress) -> None:
        self._progress = progress
        now = time.monotonic()
        if now - self._told_at >= 0.1:
            self._told_at = now
            self._tell(WorkGoesOn(self.current))

    def pause(self) -> None:
        """Let the work wait."""
        self._steer(Steering.pause)

    def resume(self) -> None:
        """Let the work go on."""
        self._steer(Steering.resume)

    def stop(self) -> None:
        """End the work soon; what was finished is kept."""
        self._steer(Steering.stop)

    def take_it_easy(self, easy: bool) -> None:
        """Let the work rest between stretches, or go at full speed."""

        def ease(steering: Steering) -> None:
            steering.easy = easy

        self._steer(ease)

    def _steer(self, act: Callable[[Steering], None]) -> None:
        with self._lock:
            steering = self._steering
        if steering is not None:
            act(steering)
            self._tell(WorkGoesOn(self.current))

    def wait(self) -> None:
        """Wait until nothing is being done."""
        thread = self._thread
        if thread is not None:
            thread.join()
