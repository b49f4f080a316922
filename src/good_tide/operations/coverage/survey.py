"""What is in the covered folders, and what rules would make of it: measured on the disk, without a store.

A survey keeps names, sizes and times of everything once seen, so that a changed rule is answered without
reading the disk again. Both the look at the disk and the judging go on in small steps, and can be asked for
their state between.
"""

from __future__ import annotations

import heapq
import os
import stat
import time
from array import array
from collections import deque
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from good_tide.core.coverage import NONE, Coverage, FolderSigns, FolderState
from good_tide.core.entries import DEEPEST
from good_tide.core.rules import Rule
from good_tide.core.translation import tr
from good_tide.operations.coverage.selecting import outermost
from good_tide.source.folders import Measured, has_cache_tag, measure, open_folder

_LARGEST_KEPT = 5
_IDLE_EXPLAINED = 40
"""Rules that decide nothing and are looked into one by one; each costs a judgement of everything."""

_WEEK_NS = 7 * 86400 * 1_000_000_000


class SeenFolder:
    """What was seen in one folder. ``parent`` is the number of the folder above, -1 for a covered folder. A
    million files are kept for as long as somebody looks at them, so their names lie packed."""

    __slots__ = ("_names", "modified", "name", "parent", "signs", "sizes")

    def __init__(self, parent: int, name: str, signs: FolderSigns) -> None:
        self.parent, self.name, self.signs = parent, name, signs
        self._names = b""
        self.sizes = array("q")
        self.modified = array("q")

    @property
    def names(self) -> list[str]:
        """The names of the files in it."""
        return os.fsdecode(self._names).split("\0") if self.sizes else []

    def fill(self, found: Measured) -> None:
        """Take in what was measured."""
        self._names = os.fsencode("\0".join(found.names))
        self.sizes, self.modified = array("q", found.sizes), array("q", found.modified)


class Survey:
    """Looks through folders, those above before those inside them. One thread adds; others may read what is
    complete.

    :param network: device numbers of network mounts; those inside are not entered.
    """

    def __init__(self, folders: Sequence[Path], network: frozenset[int] = frozenset()) -> None:
        self.folders: list[SeenFolder] = []
        self.done = False
        self._network = network
        self._waiting: deque[tuple[int, str, str, int, int]] = deque()
        self.missing: list[str] = []
        for folder in outermost(folders):
            self._waiting.append((-1, str(folder), str(folder), -1, 0))

    def look(self, seconds: float) -> None:
        """Look on for about so many seconds. ``done`` says whether everything was seen."""
        until = time.monotonic() + seconds
        while self._waiting and time.monotonic() < until:
            self._one(*self._waiting.pop())
        self.done = not self._waiting

    def _one(self, parent: int, name: str, path: str, device: int, depth: int) -> None:
        try:
            handle = (
                open_folder(path)
                if parent >= 0
                else os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
            )
        except OSError:
            if parent < 0:
                self.missing.append(path)
            return
        try:
            here = os.fstat(handle).st_dev
            device = here if parent < 0 else device
            foreign = here != device
            seen = SeenFolder(parent, name, FolderSigns(False, foreign, here in self._network and foreign))
            number = len(self.folders)
            if not seen.signs.network_mount and depth < DEEPEST:
                self._fill(seen, number, path, handle, device, depth)
        finally:
            os.close(handle)
        self.folders.append(seen)

    def _fill(self, seen: SeenFolder, number: int, path: str, handle: int, device: int, depth: int) -> None:
        try:
            found = measure(handle)
        except OSError:
            return
        seen.fill(found)
        if "CACHEDIR.TAG" in found.names:
            seen.signs = seen.signs._replace(cachedir=has_cache_tag(".", handle))
        for name in sorted(found.folders, reverse=True):
            self._waiting.append((number, name, f"{path}/{name}", device, depth + 1))

    def path(self, number: int) -> str:
        """The absolute path of a folder."""
        parts: list[str] = []
        while number >= 0:
            folder = self.folders[number]
            parts.append(folder.name)
            number = folder.parent
        return "/".join(reversed(parts))


class RuleCatch(msgspec.Struct):
    """What a rule catches: it decides about ``files`` of ``bytes`` together; ``largest`` are sizes and
    paths."""

    files: int = 0
    bytes: int = 0
    largest: list[tuple[int, str]] = []


class Share(msgspec.Struct):
    """What is in a folder and everything below it, by files and bytes in and out; ``fresh``: bytes in,
    changed in the last week."""

    files: int = 0
    bytes: int = 0
    out_files: int = 0
    out_bytes: int = 0
    fresh: int = 0


class Weighing:
    """Judges a survey under some rules, folder by folder as they are seen."""

    def __init__(self, survey: Survey, coverage: Coverage, now: int) -> None:
        self.survey, self.coverage = survey, coverage
        self.catches = [RuleCatch(largest=[]) for _ in coverage.rules]
        self.total = Share()
        self.shares: list[Share] = []
        self.states: list[FolderState] = []
        self._week = now - _WEEK_NS

    @property
    def done(self) -> bool:
        """Whether everything is seen and judged."""
        return self.survey.done and len(self.shares) == len(self.survey.folders)

    def weigh(self, seconds: float) -> None:
        """Judge what was seen, for about so many seconds."""
        until = time.monotonic() + seconds
        folders = self.survey.folders
        while len(self.shares) < len(folders) and time.monotonic() < until:
            self._one(folders[len(self.shares)], len(self.shares))

    def _one(self, folder: SeenFolder, number: int) -> None:
        coverage = self.coverage
        if folder.parent < 0:
            state = coverage.enter_covered(folder.name, folder.signs)
        else:
            state = coverage.enter(self.states[folder.parent], folder.name, folder.signs)
        week = self._week
        fresh = sum(
            [size for size, modified in zip(folder.sizes, folder.modified, strict=True) if modified >= week]
        )
        share = Share(len(folder.sizes), sum(folder.sizes), fresh=fresh)
        names = folder.names if coverage.rules else []
        decided = coverage.files(state, names, folder.sizes, folder.modified) if names else []
        for at, rule in enumerate(decided):
            if rule == NONE:
                continue
            size = folder.sizes[at]
            self._caught(self.catches[rule], size, number, names[at])
            if not coverage.rules[rule].include:
                share.files -= 1
                share.bytes -= size
                share.out_files += 1
                share.out_bytes += size
                share.fresh -= size if folder.modified[at] >= week else 0
        self.states.append(state)
        self.shares.append(share)
        _add(self.total, share)

    def _caught(self, catch: RuleCatch, size: int, number: int, name: str) -> None:
        catch.files += 1
        catch.bytes += size
        largest = catch.largest
        if len(largest) < _LARGEST_KEPT:
            heapq.heappush(largest, (size, f"{self.survey.path(number)}/{name}"))
        elif size > largest[0][0]:
            heapq.heapreplace(largest, (size, f"{self.survey.path(number)}/{name}"))

    def largest_in(self, count: int) -> list[tuple[int, str]]:
        """The largest files that are in: sizes and paths, largest first."""
        found: list[tuple[int, str]] = []
        for number, folder in enumerate(self.survey.folders[: len(self.shares)]):
            names = folder.names
            decided = self.coverage.files(self.states[number], names, folder.sizes, folder.modified)
            for at, rule in enumerate(decided):
                if self.coverage.is_out(rule) or (len(found) == count and folder.sizes[at] <= found[0][0]):
                    continue
                item = (folder.sizes[at], f"{self.survey.path(number)}/{names[at]}")
                (heapq.heappush if len(found) < count else heapq.heappushpop)(found, item)
        return sorted(found, reverse=True)

    def sums(self) -> list[Share]:
        """For each folder judged so far, it and everything below it together."""
        sums = [msgspec.structs.replace(share) for share in self.shares]
        for number in range(len(sums) - 1, -1, -1):
            parent = self.survey.folders[number].parent
            if parent >= 0:
                _add(sums[parent], sums[number])
        return sums


def _add(to: Share, share: Share) -> None:
    to.files += share.files
    to.bytes += share.bytes
    to.out_files += share.out_files
    to.out_bytes += share.out_bytes
    to.fresh += share.fresh


class RuleNote(msgspec.Struct, frozen=True):
    """A rule that decides nothing: ``hidden_by`` the position of the rule above that decides in its place, or
    None."""

    rule: int
    hidden_by: int | None


def idle_rules(weighing: Weighing, home: str, now: int) -> list[RuleNote]:
    """The rules that decide about no file, and which rule hides each, if one does."""
    notes: list[RuleNote] = []
    rules = weighing.coverage.rules
    for number, catch in enumerate(weighing.catches):
        if catch.files:
            continue
        if len(notes) >= _IDLE_EXPLAINED:
            break
        alone = Weighing(weighing.survey, Coverage([rules[number]], home, now, weighing.coverage.kinds), now)
        alone.weigh(float("inf"))
        hiding: dict[int, int] = {}
        if alone.catches[0].files:
            for other in _deciders(weighing, alone):
                hiding[other] = hiding.get(other, 0) + 1
        notes.append(RuleNote(number, max(hiding, key=lambda one: hiding[one]) if hiding else None))
    return notes


def _deciders(weighing: Weighing, alone: Weighing) -> Iterator[int]:
    """For each file that a rule catches when it stands alone: the rule that decides about it."""
    for number, folder in enumerate(weighing.survey.folders[: len(weighing.shares)]):
        caught = alone.coverage.files(alone.states[number], folder.names, folder.sizes, folder.modified)
        if any(rule != NONE for rule in caught):
            decided = weighing.coverage.files(
                weighing.states[number], folder.names, folder.sizes, folder.modified
            )
            yield from (
                rule for rule, own in zip(decided, caught, strict=True) if own != NONE and rule != NONE
            )


class Why(msgspec.Struct, frozen=True):
    """Why a path is in or out. ``rule`` is None where no rule catches it; ``at`` is the path that the rule
    catches."""

    is_in: bool
    rule: int | None
    at: str
    words: str


def why(folders: Sequence[Path], coverage: Coverage, path: Path) -> Why:
    """Why a file or folder is in or out, by its place and, where it exists, its size and times."""
    absolute = Path(os.path.abspath(path))
    covered = next((folder for folder in folders if folder == absolute or folder in absolute.parents), None)
    if covered is None:
        return Why(
            False,
            None,
            str(absolute),
            tr("Out: {absolute} is in none of the covered folders.").format(absolute=absolute),
        )
    device = _device(covered)
    state = coverage.enter_covered(str(covered))
    at, here = covered, covered
    parts = absolute.relative_to(covered).parts
    for number, part in enumerate(parts):
        here = here / part
        info = _look(here)
        if (info is not None and not stat.S_ISDIR(info.st_mode)) or (
            info is None and number == len(parts) - 1
        ):
            size, modified = (info.st_size, info.st_mtime_ns) if info is not None else (0, 0)
            rule = coverage.files(state, [part], [size], [modified])[0]
            return _answer(coverage, rule, str(here if rule != state.rule else at), covered, info is None)
        signs = FolderSigns()
        if info is not None:
            signs = FolderSigns(os.path.isfile(here / "CACHEDIR.TAG"), info.st_dev != device)
        before = state.rule
        state = coverage.enter(state, part, signs)
        if state.rule != before:
            at = here
    return _answer(coverage, state.rule, str(at), covered, False)


def _answer(coverage: Coverage, rule: int, at: str, covered: Path, missing: bool) -> Why:
    note = " " + tr("It is not there now; this is by its name alone.") if missing else ""
    if rule == NONE:
        return Why(
            True,
            None,
            at,
            tr("In: it lies in the covered folder {covered}, and no rule catches it.{note}").format(
                covered=covered, note=note
            ),
        )
    decides: Rule = coverage.rules[rule]
    verb = tr("In") if decides.include else tr("Out")
    return Why(
        decides.include,
        rule,
        at,
        tr("{verb}: rule {rule}, “{text}”, catches {at}.{note}").format(
            verb=verb, rule=rule + 1, text=decides.text, at=at, note=note
        ),
    )


def _device(folder: Path) -> int:
    info = _look(folder)
    return -1 if info is None else info.st_dev


def _look(path: Path) -> os.stat_result | None:
    try:
        return path.lstat()
    except OSError:
        return None
