"""Surveys for the window: one at a time, in a thread of its own, told as they go on."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Mapping
from pathlib import Path

from good_tide.core.clock import Clock
from good_tide.core.coverage import Coverage, Covered
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import JobId
from good_tide.core.kinds import KINDS, Kind, extended
from good_tide.core.rules import Rule, RuleError, parse_rule
from good_tide.core.translation import tr
from good_tide.lines.mounts import network_devices
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.coverage.survey import Share, Survey, Weighing, idle_rules, why
from good_tide.protocol.contract import Asker, Handler
from good_tide.protocol.coverage_calls import (
    AskWhy,
    FolderShare,
    KindView,
    ReadKinds,
    ReadSurveyedFolder,
    RuleView,
    SurveyFolders,
    SurveyView,
    WhyView,
)
from good_tide.system.memory import release_memory

_STEP_SECONDS = 0.08
_TELL_SECONDS = 0.35
_SHOWN_DEPTH = 2
_SHOWN_FOLDERS = 200
_STALE_SECONDS = 120
"""After so long what was seen is looked at again when rules are asked about."""

Stay = Callable[[Coverage, JobId], int | None]


class SurveyHandlers:
    """Looks at folders and judges rules over them, for one client after the other; each is told about three
    times a second how far its survey is.

    :param additions: what a job adds to the kinds of files.
    :param stay: how many files of a job's earlier snapshots some rules would leave out from now on.
    """

    def __init__(
        self, clock: Clock, stay: Stay, additions: Callable[[JobId], Mapping[str, tuple[str, ...]]]
    ) -> None:
        self._clock, self._stay, self._additions = clock, stay, additions
        self._lock = threading.Lock()
        self._asked: dict[Asker, SurveyFolders] = {}
        self._waiting = threading.Event()
        self._survey: Survey | None = None
        self._seen: tuple[str, ...] = ()
        self._seen_at = 0.0
        self._weighings: dict[Asker, Weighing] = {}
        self._thread: threading.Thread | None = None
        self._ended = False

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (
            SurveyFolders.by_asker(self.ask),
            ReadSurveyedFolder.by_asker(self.inside),
            AskWhy.by(self.why),
            ReadKinds.by_asker(self.kinds_here),
        )

    def _kinds(self, job: JobId) -> Mapping[str, Kind]:
        """The kinds of files that a job has."""
        return extended(self._additions(job))

    def ask(self, wanted: SurveyFolders, asker: Asker) -> None:
        """Begin a survey, in place of the one that the same client asked for before.

        Raises:
            RuleError: a rule cannot be read.
        """
        for number, line in enumerate(wanted.rules, 1):
            try:
                parse_rule(line, self._kinds(wanted.job))
            except RuleError as error:
                raise RuleError(error.what, error.advice, number) from error
        with self._lock:
            self._asked[asker] = wanted
            self._waiting.set()
            if self._thread is None:
                self._thread = threading.Thread(target=self._work, name="survey", daemon=True)
                self._thread.start()

    def gone(self, asker: Asker) -> None:
        """A client has gone: nothing is looked at for it any more."""
        with self._lock:
            self._asked.pop(asker, None)
            self._weighings.pop(asker, None)
            if not self._weighings and not self._asked:
                self._survey, self._seen = None, ()
                release_memory()

    def end(self) -> None:
        """Stop working."""
        self._ended = True
        self._waiting.set()
        if self._thread is not None:
            self._thread.join()

    def _work(self) -> None:
        while True:
            self._waiting.wait()
            if self._ended:
                return
            with self._lock:
                asker, wanted = next(iter(self._asked.items()), (None, None))
                if asker is None:
                    self._waiting.clear()
            if asker is not None and wanted is not None:
                self._answer(wanted, asker)
                with self._lock:
                    if self._asked.get(asker) is wanted:
                        del self._asked[asker]

    def _holds(self, wanted: SurveyFolders, asker: Asker) -> bool:
        """Whether a client still waits for this survey."""
        return not self._ended and self._asked.get(asker) is wanted

    def _answer(self, wanted: SurveyFolders, asker: Asker) -> None:
        now = self._clock.now()
        survey = self._survey
        stale = time.monotonic() - self._seen_at > _STALE_SECONDS
        if survey is None or self._seen != wanted.folders or wanted.again or (survey.done and stale):
            survey = self._survey = Survey([Path(folder) for folder in wanted.folders], network_devices())
            self._seen, self._seen_at = wanted.folders, time.monotonic()
        coverage = Coverage(
            [parse_rule(line, self._kinds(wanted.job)) for line in wanted.rules],
            wanted.home or home_folder(),
            now,
            self._kinds(wanted.job),
        )
        weighing = Weighing(survey, coverage, now)
        told = time.monotonic()
        while not weighing.done and self._holds(wanted, asker):
            if not survey.done:
                survey.look(_STEP_SECONDS)
            weighing.weigh(_STEP_SECONDS)
            if time.monotonic() - told >= _TELL_SECONDS:
                told = time.monotonic()
                asker.tell(self._view(wanted, weighing, final=False))
        if weighing.done:
            with self._lock:
                if asker in self._asked:
                    self._weighings[asker] = weighing
            asker.tell(self._view(wanted, weighing, final=True))

    def _view(self, wanted: SurveyFolders, weighing: Weighing, final: bool) -> SurveyView:
        notes: dict[int, tuple[str, int | None]] = {}
        if final:
            for note in idle_rules(weighing, wanted.home or home_folder(), self._clock.now()):
                hidden = note.hidden_by
                notes[note.rule] = (
                    tr("catches nothing now")
                    if hidden is None
                    else tr("is hidden by rule {hidden}, which decides first").format(hidden=hidden + 1),
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
            for number, (line, catch) in enumerate(zip(wanted.rules, weighing.catches, strict=True))
        )
        stay = self._stay(weighing.coverage, wanted.job) if final else None
        return SurveyView(
            wanted.number,
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

    def inside(self, wanted: ReadSurveyedFolder, asker: Asker) -> list[FolderShare]:
        """The folders in one folder of the last complete survey of a client."""
        with self._lock:
            weighing = self._weighings.get(asker)
        return [] if weighing is None else list(_shown(weighing, os.fsdecode(wanted.path)))

    def kinds_here(self, wanted: ReadKinds, asker: Asker) -> list[KindView]:
        """The kinds of files that a job has, and what each catches in a client's last complete survey."""
        with self._lock:
            weighing = self._weighings.get(asker)
        more, kinds, views = self._additions(wanted.job), self._kinds(wanted.job), []
        for word, kind in kinds.items():
            files, size = (None, 0) if weighing is None else self._caught(weighing, word, kinds)
            views.append(
                KindView(word, kind.title, kind.words, more.get(word, ()), word in KINDS, files, size)
            )
        return views

    def _caught(self, weighing: Weighing, word: str, kinds: Mapping[str, Kind]) -> tuple[int, int]:
        """How many files of a kind a survey saw, and their bytes."""
        coverage = Coverage([Rule(include=False, kind=word)], now=self._clock.now(), kinds=kinds)
        alone = Weighing(weighing.survey, coverage, self._clock.now())
        alone.weigh(float("inf"))
        return alone.catches[0].files, alone.catches[0].bytes

    def why(self, wanted: AskWhy) -> WhyView:
        """Why a path is in or out.

        Raises:
            PersonError: none is named.
        """
        if not wanted.path.strip():
            raise PersonError(
                tr("No file or folder is named"), tr("Choose one in the tree, or type its path")
            )
        text, own = os.fsdecode(wanted.path).strip(), wanted.home or home_folder()
        absolute = os.path.abspath(own + text[1:] if text == "~" or text.startswith("~/") else text)
        rules = [parse_rule(line, self._kinds(wanted.job)) for line in wanted.rules]
        coverage = Coverage(rules, own, self._clock.now(), self._kinds(wanted.job))
        found = why([Path(folder) for folder in wanted.folders], coverage, Path(absolute))
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
        covered = Covered.PARTLY
    elif share.files or share.out_files:
        covered = Covered.IN if share.files else Covered.OUT
    else:
        covered = Covered.OUT if state.out else Covered.IN
    path = weighing.survey.path(number)
    return FolderShare(
        os.fsencode(path),
        share.files,
        share.bytes,
        share.out_files,
        share.out_bytes,
        share.fresh,
        covered,
        deeper,
    )
