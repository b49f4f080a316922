"""Surveys for the window: one at a time, in a thread of its own, told as they go on."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from good_tide.core.clock import Clock
from good_tide.core.coverage import Coverage
from good_tide.core.errors import PersonError
from good_tide.core.kinds import Kind
from good_tide.core.rules import RuleError, parse_rule
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.coverage.survey import Share, Survey, Weighing, idle_rules, why
from good_tide.protocol.messages import FolderShare, RuleView, SurveyView, WhyView
from good_tide.system.mounts import network_devices

_STEP_SECONDS = 0.08
_TELL_SECONDS = 0.35
_SHOWN_DEPTH = 2
_SHOWN_FOLDERS = 200
_STALE_SECONDS = 120
"""After so long what was seen is looked at again when rules are asked about."""

Stay = Callable[[Coverage, str], int | None]


class SurveyRequest(msgspec.Struct):
    """Folders to look at under some rules. ``number`` comes back with the answers; ``home`` is what ``~/``
    stands for."""

    number: int
    folders: tuple[str, ...]
    rules: tuple[str, ...] = ()
    again: bool = False
    home: str = ""


class SurveyDesk:
    """Looks at folders and judges rules over them.

    :param notify: told ``survey`` with a ``SurveyView`` about three times a second.
    :param kinds: the kinds of files as a job of a name extends them.
    :param stay: how many files of a job's earlier snapshots some rules would leave out from now on.
    """

    def __init__(
        self,
        notify: Callable[[str, Any], None],
        clock: Clock,
        stay: Stay,
        kinds: Callable[[str], Mapping[str, Kind]],
    ) -> None:
        self._notify, self._clock, self._stay, self._kinds = notify, clock, stay, kinds
        self._lock = threading.Lock()
        self._changed = threading.Event()
        self._request: SurveyRequest | None = None
        self._job = ""
        self._survey: Survey | None = None
        self._seen: tuple[str, ...] = ()
        self._seen_at = 0.0
        self._weighing: Weighing | None = None
        self._thread: threading.Thread | None = None
        self._ended = False

    def ask(self, request: SurveyRequest, job: str) -> None:
        """Begin to answer a request, of a job or of one that is being set up (empty), in place of the one
        before.

        Raises:
            RuleError: a rule cannot be read.
        """
        for number, line in enumerate(request.rules, 1):
            try:
                parse_rule(line)
            except RuleError as error:
                raise RuleError(error.what, error.advice, number) from error
        with self._lock:
            self._request, self._job = request, job
            self._changed.set()
            if self._thread is None:
                self._thread = threading.Thread(target=self._work, name="survey", daemon=True)
                self._thread.start()

    def end(self) -> None:
        """Stop working."""
        self._ended = True
        self._changed.set()
        if self._thread is not None:
            self._thread.join()

    def _work(self) -> None:
        while True:
            self._changed.wait()
            self._changed.clear()
            if self._ended:
                return
            with self._lock:
                request, job = self._request, self._job
            if request is not None:
                self._answer(request, job)

    def _answer(self, request: SurveyRequest, job: str) -> None:
        now = self._clock.now()
        survey = self._survey
        stale = time.monotonic() - self._seen_at > _STALE_SECONDS
        if survey is None or self._seen != request.folders or request.again or (survey.done and stale):
            survey = self._survey = Survey([Path(folder) for folder in request.folders], network_devices())
            self._seen, self._seen_at = request.folders, time.monotonic()
        coverage = Coverage(
            [parse_rule(line) for line in request.rules], request.home or home_folder(), now, self._kinds(job)
        )
        weighing = Weighing(survey, coverage, now)
        told = time.monotonic()
        while not weighing.done and not self._changed.is_set():
            if not survey.done:
                survey.look(_STEP_SECONDS)
            weighing.weigh(_STEP_SECONDS)
            if time.monotonic() - told >= _TELL_SECONDS:
                told = time.monotonic()
                self._notify("survey", self._view(request, job, weighing, final=False))
        if weighing.done:
            with self._lock:
                self._weighing = weighing
            self._notify("survey", self._view(request, job, weighing, final=True))

    def _view(self, request: SurveyRequest, job: str, weighing: Weighing, final: bool) -> SurveyView:
        notes: dict[int, tuple[str, int | None]] = {}
        if final:
            for note in idle_rules(weighing, request.home or home_folder(), self._clock.now()):
                hidden = note.hidden_by
                notes[note.rule] = (
                    "catches nothing now"
                    if hidden is None
                    else f"is hidden by rule {hidden + 1}, which decides first",
                    hidden,
                )
        total = weighing.total
        rules = tuple(
            RuleView(
                line,
                catch.files,
                catch.bytes,
                tuple((size, os.fsencode(path)) for size, path in sorted(catch.largest, reverse=True)),
                *notes.get(number, ("", None)),
            )
            for number, (line, catch) in enumerate(zip(request.rules, weighing.catches, strict=True))
        )
        stay = self._stay(weighing.coverage, job) if final else None
        return SurveyView(
            request.number,
            final,
            total.files,
            total.bytes,
            total.out_files,
            total.out_bytes,
            rules,
            _shown(weighing, None),
            tuple(map(os.fsencode, weighing.survey.missing)),
            stay,
        )

    def inside(self, path: bytes) -> list[FolderShare]:
        """The folders in one folder of the last complete survey."""
        with self._lock:
            weighing = self._weighing
        return [] if weighing is None else list(_shown(weighing, os.fsdecode(path)))

    def why(
        self, folders: Sequence[str], rules: Sequence[str], path: bytes, home: str, now: int, job: str
    ) -> WhyView:
        """Why a path is in or out."""
        if not path.strip():
            raise PersonError("No file or folder is named", "Choose one in the tree, or type its path")
        text, own = os.fsdecode(path).strip(), home or home_folder()
        absolute = os.path.abspath(own + text[1:] if text == "~" or text.startswith("~/") else text)
        coverage = Coverage([parse_rule(line) for line in rules], own, now, self._kinds(job))
        found = why([Path(folder) for folder in folders], coverage, Path(absolute))
        return WhyView(os.fsencode(absolute), found.is_in, found.rule, found.words)


def _shown(weighing: Weighing, inside: str | None) -> tuple[FolderShare, ...]:
    """Shares of the topmost folders, largest first in each; or of those directly inside a folder."""
    sums = weighing.sums()
    folders = weighing.survey.folders
    count = len(sums)
    depth = [0] * count
    deeper = [False] * count
    for number in range(count):
        parent = folders[number].parent
        if parent >= 0:
            depth[number] = depth[parent] + 1
            deeper[parent] = True
    if inside is None:
        numbers = [number for number in range(count) if depth[number] <= _SHOWN_DEPTH]
        if len(numbers) > _SHOWN_FOLDERS:
            numbers = sorted(
                numbers, key=lambda one: (depth[one] > 0, -(sums[one].bytes + sums[one].out_bytes))
            )[:_SHOWN_FOLDERS]
    else:
        numbers = [
            number
            for number in range(count)
            if folders[number].parent >= 0 and os.path.dirname(weighing.survey.path(number)) == inside
        ]
    found = [_share(weighing, number, sums[number], deeper[number]) for number in numbers]
    return tuple(sorted(found, key=lambda one: one.path))


def _share(weighing: Weighing, number: int, share: Share, deeper: bool) -> FolderShare:
    state = weighing.states[number]
    if share.files and share.out_files:
        word = "partly"
    elif share.files or share.out_files:
        word = "in" if share.files else "out"
    else:
        word = "out" if state.out else "in"
    path = weighing.survey.path(number)
    return FolderShare(
        os.fsencode(path),
        share.files,
        share.bytes,
        share.out_files,
        share.out_bytes,
        share.fresh,
        word,
        deeper,
    )
