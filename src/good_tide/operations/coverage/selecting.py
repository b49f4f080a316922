"""Coverage applied to what a walk finds."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from pathlib import Path

from good_tide.core.coverage import Coverage, FolderSigns, FolderState
from good_tide.core.entries import Kind
from good_tide.core.kinds import extended
from good_tide.core.settings import Job
from good_tide.lines.mounts import network_devices
from good_tide.source.folders import Found, Missed, has_cache_tag

_MOST_FOLDERS = 50_000
"""Judgements of so many folders are kept in memory."""


class Selector:
    """Decides which of the names in a folder belong to a snapshot.

    :param network: device numbers of mounted network file systems.
    """

    def __init__(self, coverage: Coverage, network: frozenset[int] = frozenset()) -> None:
        self.coverage, self._network = coverage, network
        self._looks_for_tags = any(rule.marker == "cachedir" for rule in coverage.rules)

    def enter_covered(self, path: str, device: int) -> FolderState:
        """The state in a covered folder; ``device`` is the number of its file system."""
        return self.coverage.enter_covered(path, FolderSigns(network_mount=device in self._network))

    def enter(self, state: FolderState, item: Found, handle: int, device: int) -> FolderState:
        """The state in a folder found inside the open folder ``handle``; ``device`` is that of the covered
        folder."""
        tagged = self._looks_for_tags and has_cache_tag(item.text, handle)
        other = item.info.st_dev != device
        return self.coverage.enter(
            state, item.text, FolderSigns(tagged, other, other and item.info.st_dev in self._network)
        )

    def keep(
        self, found: Sequence[Found], missed: Sequence[Missed], handle: int, state: FolderState, device: int
    ) -> tuple[list[Found], list[Missed], dict[bytes, FolderState]]:
        """What of a folder's contents is in, and the states of those sub-folders that may hold something."""
        inside: dict[bytes, FolderState] = {}
        plain = [item for item in found if item.kind is not Kind.FOLDER]
        decided = self.coverage.files(
            state,
            [item.text for item in plain],
            [item.info.st_size for item in plain],
            [item.info.st_mtime_ns for item in plain],
        )
        out = {item.name for item, rule in zip(plain, decided, strict=True) if self.coverage.is_out(rule)}
        kept = []
        for item in found:
            if item.kind is Kind.FOLDER:
                child = self.enter(state, item, handle, device)
                if not child.open:
                    continue
                inside[item.name] = child
            elif item.name in out:
                continue
            kept.append(item)
        count = len(missed)
        gone = self.coverage.files(
            state, [os.fsdecode(miss.name) for miss in missed], [0] * count, [0] * count
        )
        return (
            kept,
            [miss for miss, rule in zip(missed, gone, strict=True) if not self.coverage.is_out(rule)],
            inside,
        )


class PathStates:
    """What rules say of folders, by their paths alone: marks in folders are not looked for, a run does
    that."""

    def __init__(self, coverage: Coverage) -> None:
        self._coverage = coverage
        self._known: dict[str, FolderState] = {}

    def of(self, folder: str, covered: str) -> FolderState:
        """The state of a folder in a covered one."""
        if len(self._known) > _MOST_FOLDERS:
            self._known.clear()
        missing = []
        while folder not in self._known and folder != covered:
            missing.append(folder)
            folder = os.path.dirname(folder)
        if folder not in self._known:
            self._known[folder] = self._coverage.enter_covered(covered)
        state = self._known[folder]
        for below in reversed(missing):
            state = self._known[below] = self._coverage.enter(state, os.path.basename(below))
        return state


def state_of(
    selector: Selector | None, covered: Iterable[bytes], folder: bytes, device: int = 0
) -> FolderState | None:
    """What rules say of a folder by its path, and by no marks in it; None outside the covered folders, and
    without rules."""
    root = next((one for one in covered if (folder + b"/").startswith(one.rstrip(b"/") + b"/")), None)
    if selector is None or root is None:
        return None
    state = selector.enter_covered(os.fsdecode(root), device)
    for part in folder[len(root) :].strip(b"/").split(b"/"):
        state = selector.coverage.enter(state, os.fsdecode(part)) if part else state
    return state


def outermost(folders: Iterable[Path]) -> list[Path]:
    """Folders as absolute paths in order, without those inside others: each thing is covered once."""
    absolute = sorted({Path(os.path.abspath(folder)) for folder in folders})
    return [folder for folder in absolute if not any(other in folder.parents for other in absolute)]


def job_selector(job: Job, now: int) -> Selector:
    """What the rules of a job say now.

    :param now: nanoseconds since 1970 UTC.
    """
    coverage = Coverage(job.parsed_rules(), job.home or home_folder(), now, extended(job.kinds))
    return Selector(coverage, network_devices())


def home_folder() -> str:
    """The home folder that ``~/`` stands for in rules."""
    return str(Path.home())
