"""The agent: the one process that does long work for a person's session."""

from __future__ import annotations

import os
import signal
import threading
from pathlib import Path
from types import FrameType

import msgspec

from good_tide import __version__
from good_tide.agent.session import Session
from good_tide.agent.work import Worker
from good_tide.core.clock import Clock, SystemClock
from good_tide.core.errors import PersonError
from good_tide.core.progress import Silent, Steering
from good_tide.core.words import count_words, printable, size_words
from good_tide.operations.capture import CaptureRequest, capture
from good_tide.operations.restore_work import carry_out
from good_tide.operations.restoring import Action, Existing, Plan, Wish, plan_restore
from good_tide.operations.set_aside import undo
from good_tide.operations.workplace import Workplace, load_job, this_workplace
from good_tide.protocol.messages import (
    PROTOCOL_VERSION,
    Detail,
    Finished,
    FolderView,
    Found,
    Hello,
    JournalEntry,
    Overview,
    PickedItem,
    PlanItem,
    PlanView,
    RestoreResult,
)
from good_tide.protocol.server import Server
from good_tide.protocol.sockets import agent_socket

_PLAN_ITEMS_SHOWN = 2000
_LINGER_SECONDS = 20.0
"""How long an agent started by a window stays after the last window was closed."""


class _Path(msgspec.Struct):
    path: bytes


class _PathAt(msgspec.Struct):
    path: bytes
    seq: int


class _Words(msgspec.Struct):
    words: str


class _PlanRequest(msgspec.Struct):
    items: tuple[PickedItem, ...]
    into: str = ""
    existing: str = "set-aside"


class _Number(msgspec.Struct):
    number: int


class Agent:
    """Answers the window's questions and does its work.

    :param settings: the folder with the job's settings.
    """

    def __init__(self, settings: Path, here: Workplace, clock: Clock, while_used: bool = False) -> None:
        self._here, self._clock, self._while_used = here, clock, while_used
        job = load_job(settings)
        self._session = Session(job, here, clock) if job is not None else None
        self._plans: dict[int, Plan] = {}
        self._plan_number = 0
        self._timer: threading.Timer | None = None
        self._worker = Worker(lambda method, value: self._server.notify(method, value))
        handlers = {
            "hello": lambda raw: Hello(__version__, PROTOCOL_VERSION, os.getpid()),
            "overview": lambda raw: self.overview(),
            "folder": lambda raw: self.folder(msgspec.json.decode(raw, type=_Path).path),
            "detail": lambda raw: self.detail(msgspec.json.decode(raw, type=_PathAt)),
            "find": lambda raw: self.find(msgspec.json.decode(raw, type=_Words).words),
            "coverage": lambda raw: self._job().coverage(),
            "journal": lambda raw: self.journal(),
            "unlock": lambda raw: self.unlock(msgspec.json.decode(raw, type=_Words).words),
            "plan": lambda raw: self.plan(msgspec.json.decode(raw, type=_PlanRequest)),
            "restore": lambda raw: self.restore(msgspec.json.decode(raw, type=_Number).number),
            "undo": lambda raw: self.undo(msgspec.json.decode(raw, type=_Words).words),
            "snapshot": lambda raw: self.snapshot(),
            "pause": lambda raw: self._worker.pause(),
            "resume": lambda raw: self._worker.resume(),
            "stop": lambda raw: self._worker.stop(),
        }
        self._server = Server(agent_socket(here.runtime, settings), handlers, self._clients_changed)

    def run(self) -> None:
        """Serve until ``end``."""
        self._server.serve()
        self._worker.stop()
        self._worker.wait()

    def end(self) -> None:
        """Stop serving; work at hand is stopped cleanly."""
        self._server.close()

    def _clients_changed(self, count: int) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        if self._while_used and count == 0:
            self._timer = threading.Timer(_LINGER_SECONDS, self._end_if_idle)
            self._timer.daemon = True
            self._timer.start()

    def _end_if_idle(self) -> None:
        if self._worker.current is None:
            self.end()
        else:
            self._clients_changed(0)

    def _job(self) -> Session:
        if self._session is None:
            raise PersonError("There is no job on this machine yet", "Set one up first")
        return self._session

    def overview(self) -> Overview:
        """Everything the window shows before anything is chosen."""
        if self._session is None:
            return Overview("no-job", now=self._clock.now())
        session, job = self._session, self._session.job
        state = session.state()
        tide = session.tide() if state in ("ready", "empty") else []
        return Overview(
            state=state,
            job=job.name,
            machine=session.machine.name,
            now=self._clock.now(),
            every_minutes=job.every_minutes,
            trouble=tuple(session.damage),
            store=session.store_view(tide) if state != "damaged" else None,
            covered=job.folders,
            tide=tuple(tide),
            work=self._worker.current,
        )

    def folder(self, path: bytes) -> FolderView:
        """Lifelines of a folder."""
        return self._job().folder(path)

    def detail(self, wanted: _PathAt) -> Detail:
        """One version."""
        return self._job().detail(wanted.path, wanted.seq)

    def find(self, words: str) -> list[Found]:
        """Search by name in all of history."""
        return self._job().find(words)

    def journal(self) -> list[JournalEntry]:
        """What happened."""
        return self._job().journal()

    def unlock(self, passphrase: str) -> None:
        """Open the store."""
        self._job().unlock(passphrase)

    def plan(self, request: _PlanRequest) -> PlanView:
        """Work out a restore plan and keep it."""
        session = self._job()
        wishes = [Wish(session.snapshot(item.seq), item.path) for item in request.items]
        into = Path(request.into) if request.into else None
        plan = plan_restore(session.store(), wishes, into, Existing(request.existing), Silent())
        self._plan_number += 1
        self._plans = {self._plan_number: plan}
        interesting = sorted(plan.steps, key=lambda step: step.action is Action.IDENTICAL)
        items = tuple(PlanItem(step.shown, step.action.value, step.entry.stat.size, step.note) for step in interesting[:_PLAN_ITEMS_SHOWN])
        counts = {action: plan.count(action) for action in Action}
        return PlanView(
            self._plan_number, counts[Action.CREATE], counts[Action.REPLACE], counts[Action.IDENTICAL], counts[Action.SKIP], counts[Action.BLOCKED],
            plan.payload, items, plan.notes,
        )  # fmt: skip

    def restore(self, number: int) -> None:
        """Begin to carry a plan out.

        Raises:
            PersonError: another plan was made since.
        """
        plan = self._plans.pop(number, None)
        if plan is None:
            raise PersonError("This plan is no longer current", "Make it again")
        self._worker.start("restore", lambda steering: self._restore(plan, steering))

    def _restore(self, plan: Plan, steering: Steering) -> Finished:
        report = carry_out(self._job().store(), plan, self._clock, steering)
        problems = tuple(f"{printable(problem.path)}: {problem.reason}" for problem in [*report.problems, *report.metadata_notes])
        aside = tuple(str(path) for path in report.set_aside)
        result = RestoreResult(report.created, report.replaced, report.identical, report.skipped, report.bytes, aside, problems)
        words = f"Restored {count_words(report.created + report.replaced, 'item')}, {size_words(report.bytes)}"
        return Finished("restore", restore=result, words=words)

    def undo(self, folder: str) -> None:
        """Begin to undo a restore."""
        self._worker.start("undo", lambda steering: self._undo(Path(folder)))

    def _undo(self, folder: Path) -> Finished:
        report = undo(folder)
        words = f"Undone: {count_words(report.put_back, 'thing')} put back, {count_words(report.removed, 'restored thing')} removed"
        if report.kept:
            words += f"; {count_words(len(report.kept), 'thing')} left because it was changed since"
        return Finished("undo", words=words)

    def snapshot(self) -> None:
        """Begin a snapshot of the job's folders."""
        self._job().store()
        self._worker.start("snapshot", self._snapshot)

    def _snapshot(self, steering: Steering) -> Finished:
        session = self._job()
        folders = tuple(Path(folder) for folder in session.job.folders)
        request = CaptureRequest(folders, session.machine, missing_is_gap=True)
        taken = capture(session.store(), request, self._clock, steering, self._here.state, session.catalog().stored_small)
        session.sync()
        tally = taken.record.tally
        words = f"Snapshot taken: {count_words(tally.changed_files, 'changed file')}, {size_words(tally.new_bytes)} new"
        if taken.gaps:
            words += f"; {count_words(taken.gaps, 'file')} could not be read"
        return Finished("snapshot", words=words)


def run_agent(settings: Path | None, while_used: bool) -> int:
    """Run the agent until it is told to end. Returns the exit code."""
    here = this_workplace()
    agent = Agent(settings or here.settings, here, SystemClock(), while_used)

    def end(number: int, frame: FrameType | None) -> None:
        threading.Thread(target=agent.end).start()

    signal.signal(signal.SIGTERM, end)
    signal.signal(signal.SIGINT, end)
    agent.run()
    return 0
