"""The long work of the agent: one thing after the other, in a thread of its own."""

from __future__ import annotations

import contextlib
import logging
import threading
import time
from collections.abc import Callable, Sequence

from good_tide.core.errors import GoodTideError, PlaceError, StoppedError, of_system
from good_tide.core.progress import Progress, Steering, WorkKind
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.lines.client import end_lines, patience
from good_tide.protocol.agent_calls import Work, WorkEnded, WorkGoesOn
from good_tide.protocol.contract import Note
from good_tide.system.developer_log import Private
from good_tide.system.memory import release_memory
from good_tide.system.priority import lower_priority

_log = logging.getLogger(__name__)

_WAY_SECONDS = 10.0
"""So long work that gives way is waited for."""

Tell = Callable[[Note], None]


_PATIENCE_SECONDS = 3.0
"""So long work that was stopped may take for what it asked a server."""


class Worker:
    """Runs one piece of work at a time and tells how it goes.

    :param tell: told how it goes about ten times a second, and how it ended.
    """

    def __init__(self, tell: Tell) -> None:
        self._tell = tell
        self._lock = threading.Lock()
        self._steering: Steering | None = None
        self._thread: threading.Thread | None = None
        self._jobs: tuple[Job, ...] = ()
        self._left: list[tuple[threading.Thread, tuple[Job, ...]]] = []
        """Work that was given up, as a disk holds it up for as long as it likes."""
        self._gives_way = False
        """Whether the current work ends for any other."""
        self._what = WorkKind.SNAPSHOT
        self._progress = Progress("")
        self._started = 0.0
        self._told_at = 0.0

    @property
    def occupied(self) -> bool:
        """Whether anything is being done, even what gives way to all else."""
        with self._lock:
            return self._steering is not None

    def make_way(self) -> None:
        """End work that gives way to all else, if there is any, and wait until it has ended."""
        with self._lock:
            steering, thread = self._steering, self._thread
            if steering is None or thread is None or not self._gives_way:
                return
        steering.stop()
        self._hurry(thread)
        thread.join(_WAY_SECONDS)

    @property
    def current(self) -> Work | None:
        """What is being done now; nothing that gives way to all else."""
        with self._lock:
            if self._steering is None or self._gives_way:
                return None
            return Work(
                self._what,
                self._steering.paused,
                self._progress,
                time.monotonic() - self._started,
                self._steering.easy,
            )

    def start(
        self,
        what: WorkKind,
        work: Callable[[Steering], WorkEnded],
        jobs: Sequence[Job],
        behind: bool = False,
        gives_way: bool = False,
    ) -> None:
        """Begin some work.

        :param jobs: whose stores it touches.
        :param behind: with the lowest priority for processor and disks, as nobody waits for it.
        :param gives_way: it ends for any other work, and nobody is told of it.

        Raises:
            PlaceError: other work is being done, or a disk still holds up earlier work for one of the jobs.
        """
        self.make_way()
        with self._lock:
            if self._steering is not None:
                raise PlaceError(
                    tr("A {what} is being done already").format(what=self._what),
                    tr("Wait until it is done, or stop it"),
                )
            held_up = self._held_up(jobs)
            if held_up is not None:
                raise PlaceError(
                    tr("A disk of {name} does not answer, and holds up what was begun").format(
                        name=held_up.name
                    ),
                    tr("It goes on when the disk answers; otherwise unmount it, or restart the machine"),
                )
            steering = Steering(lambda progress: self._report(steering, progress))
            self._steering = steering
            self._what, self._progress, self._started = what, Progress(tr("Starting")), time.monotonic()
            self._jobs, self._gives_way = tuple(jobs), gives_way
            self._thread = threading.Thread(target=self._run, args=(work, self._steering, behind), name=what)
            self._thread.start()
            _log.info("%s begins for %s", what, [job.id for job in jobs])

    def _held_up(self, jobs: Sequence[Job]) -> Job | None:
        """The first of some jobs for which work that was given up is still held up."""
        self._left = [one for one in self._left if one[0].is_alive()]
        held_up = {job.id for _, those in self._left for job in those}
        return next((job for job in jobs if job.id in held_up), None)

    def is_held_up(self, job: Job) -> bool:
        """Whether a disk still holds up work for a job that was given up."""
        with self._lock:
            return self._held_up((job,)) is not None

    @property
    def quiet_seconds(self) -> float:
        """How long the current work has given no sign; 0 where there is none."""
        with self._lock:
            return self._steering.quiet_seconds if self._steering is not None else 0.0

    @property
    def jobs(self) -> tuple[Job, ...]:
        """The jobs whose stores the current work touches."""
        with self._lock:
            return self._jobs if self._steering is not None else ()

    def give_up(self, error: GoodTideError) -> None:
        """Let the current work be, as it is held up, so that other work can be begun; it ends when it gets on
        again."""
        with self._lock:
            steering, thread = self._steering, self._thread
            if steering is None or thread is None:
                return
            self._left.append((thread, self._jobs))
            self._steering = None
        steering.stop()
        _log.warning("%s is given up: its disk does not answer", self._what)
        self._tell(WorkEnded(self._what, error=str(error)))

    def _run(self, work: Callable[[Steering], WorkEnded], steering: Steering, behind: bool) -> None:
        what = self._what
        try:
            if behind:
                lower_priority()
            with contextlib.nullcontext() if self._gives_way else patience.of_work():
                ended = work(steering)
        except StoppedError as error:
            ended = WorkEnded(what, words=str(error))
        except GoodTideError as error:
            ended = WorkEnded(what, error=str(error))
        except OSError as error:
            ended = WorkEnded(what, error=str(of_system(error)))
        except Exception as error:
            ended = WorkEnded(what, error=tr("A fault in the program: {error!r}").format(error=error))
            self._end(ended, steering)
            raise
        self._end(ended, steering)

    def _end(self, ended: WorkEnded, steering: Steering) -> None:
        with self._lock:
            given_up, gave_way = self._steering is not steering, self._gives_way
            if not given_up:
                self._steering = None
        seconds = time.monotonic() - self._started
        _log.info(
            "%s ends after %.1f s: %s", ended.what, seconds, Private(ended.error) if ended.error else "well"
        )
        if not given_up and not gave_way:
            self._tell(ended)
        release_memory()

    def _report(self, steering: Steering, progress: Progress) -> None:
        if steering is not self._steering or self._gives_way:
            return
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
        """End the work soon; what was finished is kept. A server that does not answer is not waited for."""
        self._steer(Steering.stop)
        with self._lock:
            thread = self._thread
        if thread is not None and thread.is_alive():
            threading.Thread(target=self._hurry, args=(thread,), name="hurry", daemon=True).start()

    @staticmethod
    def _hurry(thread: threading.Thread) -> None:
        thread.join(_PATIENCE_SECONDS)
        if thread.is_alive():
            end_lines()

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
