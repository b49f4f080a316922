"""What the timeline shows and what is chosen in it. Plain values, no Qt, so that it is tested without a
display."""

from __future__ import annotations

import os
import statistics
from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from typing import NamedTuple

from good_tide.core.findings import Findings
from good_tide.core.history import NO_HISTORY, Lifeline, Span
from good_tide.core.identifiers import HistoryId
from good_tide.core.tide import Tide
from good_tide.core.translation import tr
from good_tide.core.words import number_words, printable, time_words
from good_tide.desktop.painting.time_axis import TimeAxis
from good_tide.protocol.restore_calls import PickedItem

_FLOOD_FILES = 10
_FLOOD_FACTOR = 8


class Row(NamedTuple):
    """One line among the lifelines."""

    path: bytes
    depth: int
    line: Lifeline
    expanded: bool
    caption: str = ""
    """Where it is the folder above rows that were found: the way to it."""

    @property
    def is_folder(self) -> bool:
        """Whether it can be opened."""
        return self.line.kind == "d"

    @property
    def life(self) -> list[tuple[bytes, Span]]:
        """Its versions with their paths, those of earlier names first."""
        return self.line.life(self.path)

    def standing(self, seq: int) -> tuple[bytes, Span] | None:
        """The version that stood in a snapshot, under its own name or an earlier one, and the path then."""
        own = self.line.at(seq)
        if own is not None:
            return self.path, own
        return next(((path, span) for path, span in self.life if span.stood_at(seq)), None)

    @property
    def title(self) -> str:
        """The name shown."""
        if self.caption:
            return self.caption
        return printable(os.path.basename(self.line.name))


def version_number(row: Row, span: Span) -> int:
    """Counting from 1 the versions of a row that could be read, those under earlier names too; 0 for a
    left-out stretch."""
    readable = [one for _, one in row.life if one.kind != "x"]
    return readable.index(span) + 1 if span in readable else 0


class TimelineModel:
    """The tide, the folder looked into, the rows in it, the chosen moment and path.

    ``root`` is the folder looked into; empty: the covered folders. ``moment`` is a snapshot number, 0 without
    any: numbers count the snapshots of ``history`` and mean nothing outside of this model, where snapshots go
    by their names.
    """

    def __init__(self, tide: Tide, history: HistoryId = NO_HISTORY) -> None:
        self.tide, self.history = tide, history
        times = tide.time or [0]
        self.axis = TimeAxis(times[0], times[-1])
        self.root = b""
        self.moment = len(self.tide)
        self.selected: bytes | None = None
        self.together: frozenset[bytes] = frozenset()
        """Rows that are chosen together with the selected one."""
        self.against = 0
        """The second mark: a snapshot number too; 0: what is on the disk now."""
        self.found: Findings | None = None
        """While somebody looks for a name: what was found, which the rows show instead of a folder's."""
        self._views: dict[bytes, tuple[Lifeline, ...]] = {}
        self._expanded: set[bytes] = set()
        self._laid_out: tuple[object, list[Row], dict[bytes, Row]] = (None, [], {})
        """The rows as they were last asked for, and what they depend on."""
        self._taken_in = 0
        self._times = tide.time
        self._flooded: set[tuple[bytes, int]] = set()
        self.says: tuple[bytes, frozenset[int]] | None = None
        """A path, and in which of its versions a phrase stands that somebody looks for."""
        self._lost: frozenset[bytes] = frozenset()
        self.floods = self._find_floods()

    def _find_floods(self) -> dict[int, int]:
        """Snapshots in which far more files were rewritten than usual, with how many: worth a mark of their
        own."""
        seqs, rewritten = self.tide.seq, self.tide.changed
        usual = statistics.median([count for count in rewritten if count] or [1])
        flood = max(_FLOOD_FILES, _FLOOD_FACTOR * usual)
        return {seq: count for seq, count in zip(seqs, rewritten, strict=True) if count >= flood}

    def follow(self, before: TimelineModel) -> None:
        """Show what another model shows, in this one's history: the same folder, row and stretch of time. Who
        looks at the newest snapshot looks at the newest; who looks at one that is gone, at the one nearest to
        it."""
        self.root, self.selected, self._expanded = before.root, before.selected, set(before._expanded)
        self.together = before.together
        if not before.tide or not self.tide:
            return
        self.axis = before.axis
        self.axis.extend(self.tide[-1].time)
        if before.moment < len(before.tide):
            point = before.tide[before.moment - 1]
            self.moment = self.tide.seq_of(point.name) or self.nearest(point.time)
        if 0 < before.against <= len(before.tide):
            self.against = self.tide.seq_of(before.tide.name[before.against - 1])

    def picked(self, path: bytes) -> PickedItem:
        """A path at the chosen moment, as it is named to the agent: as it was called then."""
        point, row = self.tide[self.moment - 1], self.row_of(path)
        then = row.standing(self.moment) if row is not None and row.line.earlier else None
        return PickedItem(path if then is None else then[0], point.name, point.time)

    def picked_whole(self, path: bytes) -> list[PickedItem]:
        """The same; for no path all folders that the snapshot covers."""
        return [self.picked(one) for one in ([path] if path else self.covered_at(self.moment))]

    def take_view(self, path: bytes, lines: Sequence[Lifeline], lost: frozenset[bytes] = frozenset()) -> None:
        """A folder's lifelines have come; ``lost`` are the identities of versions whose content is lost."""
        self._lost |= lost
        self._views[path] = tuple(lines)
        self._taken_in += 1
        files = [line for line in lines if line.kind == "f"]
        for seq in self.floods:
            rewritten = [line.name for line in files if any(span.first == seq for span in line.spans[1:])]
            standing = sum(1 for line in files if line.at(seq) is not None)
            if len(rewritten) >= 3 and 2 * len(rewritten) >= standing:
                self._flooded.update((path.rstrip(b"/") + b"/" + name, seq) for name in rewritten)

    def says_it(self, row: Row, span: Span) -> bool | None:
        """Whether the phrase that is looked for stands in a version; None where none is looked for in it."""
        if self.says is None or self.says[0] != row.path:
            return None
        return span.first in self.says[1]

    def take_found(self, found: Findings, lost: frozenset[bytes]) -> None:
        """What was found has come; what is chosen stays chosen where it is among it."""
        self.found = found
        self._lost |= lost
        if self.row_of(self.selected) is None:
            self.choose(None)

    def is_lost(self, span: Span) -> bool:
        """Whether the content of a version is lost, by what is known."""
        return span.kind == "f" and span.identity in self._lost

    def is_flooded(self, row: Row, span: Span) -> bool:
        """Whether a version came when most of its folder was rewritten at once."""
        return (row.path, span.first) in self._flooded

    def covered_at(self, seq: int) -> list[bytes]:
        """The covered folders that a snapshot has."""
        return [line.name for line in self._views.get(b"", ()) if line.at(seq) is not None]

    def missing_views(self) -> list[bytes]:
        """Folders whose lifelines are needed and not there yet."""
        wanted = [b"", self.root, *sorted(path for path in self._expanded if path.startswith(self.root))]
        return [path for path in dict.fromkeys(wanted) if path not in self._views]

    def rows(self) -> list[Row]:
        """The visible rows: the folder's contents, opened folders with theirs below them; or what was
        found, under the folders that it is in."""
        return self._layout()[1]

    def _layout(self) -> tuple[object, list[Row], dict[bytes, Row]]:
        """The rows, and each by its path, made anew only when something of it is another: every picture asks
        for them."""
        key = self.root, self._taken_in, frozenset(self._expanded), id(self.found)
        if key != self._laid_out[0]:
            rows: list[Row] = []
            if self.found is not None:
                rows = self._found_rows(self.found)
            else:
                self._add_rows(self.root, 0, rows)
            by_path: dict[bytes, Row] = {}
            for row in rows:
                if row.path not in by_path or by_path[row.path].caption:
                    by_path[row.path] = row
            self._laid_out = key, rows, by_path
        return self._laid_out

    def _found_rows(self, found: Findings) -> list[Row]:
        rows = []
        for folder in found.folders:
            if folder.line is not None:
                rows.append(Row(folder.path, 0, folder.line, True, self._way(folder.path)))
            for line in folder.lines:
                path = folder.path.rstrip(b"/") + b"/" + line.name if folder.path else line.name
                rows.append(Row(path, 1, line, False))
        return rows

    def _way(self, path: bytes) -> str:
        """The way to a folder from the covered folder that it is in, as it is shown."""
        return " › ".join(name for name, _ in self._steps(path))

    def _add_rows(self, folder: bytes, depth: int, rows: list[Row]) -> None:
        for line in self._views.get(folder, ()):
            path = line.name if not folder else folder.rstrip(b"/") + b"/" + line.name
            expanded = path in self._expanded and line.kind == "d"
            rows.append(Row(path, depth, line, expanded))
            if expanded:
                self._add_rows(path, depth + 1, rows)

    def toggle(self, path: bytes) -> None:
        """Open a folder in place, or close it."""
        self._expanded ^= {path}

    def enter(self, path: bytes) -> None:
        """Look into a folder."""
        self.root = path
        self.choose(None)
        self._expanded.clear()

    def crumbs(self) -> list[tuple[str, bytes]]:
        """The way to the folder looked into: name and path of each step."""
        return self._steps(self.root) if self.root else []

    def _steps(self, path: bytes) -> list[tuple[str, bytes]]:
        covered = next(
            (line.name for line in self._views.get(b"", ()) if (path + b"/").startswith(line.name + b"/")),
            path,
        )
        steps = [(printable(os.path.basename(covered)), covered)]
        at = covered
        for part in path[len(covered) :].strip(b"/").split(b"/"):
            if part:
                at = at + b"/" + part
                steps.append((printable(part), at))
        return steps

    def parent(self) -> bytes | None:
        """The folder above the one looked into; None at the top."""
        steps = self.crumbs()
        if not steps:
            return None
        return steps[-2][1] if len(steps) > 1 else b""

    def row_of(self, path: bytes | None) -> Row | None:
        """The row of a path, if it is visible; a caption only where there is no other."""
        return None if path is None else self._layout()[2].get(path)

    def choose(self, path: bytes | None) -> None:
        """Choose one row, and no other."""
        self.selected, self.together = path, frozenset()

    def also(self, path: bytes) -> None:
        """Choose a row together with the others, or no longer."""
        if self.selected is not None and not self.together:
            self.together = frozenset((self.selected,))
        self.together ^= {path}
        self.selected = path if path in self.together else min(self.together, default=None)

    def choose_up_to(self, path: bytes) -> None:
        """Choose all rows from the selected one to another, which is the selected one then."""
        paths = [row.path for row in self.rows() if not row.caption]
        if self.selected not in paths or path not in paths:
            self.choose(path)
            return
        ends = sorted((paths.index(self.selected), paths.index(path)))
        self.together |= set(paths[ends[0] : ends[1] + 1])
        self.selected = path

    @property
    def several(self) -> list[bytes]:
        """The rows that are chosen together and stood at the moment; empty where it is one or none."""
        if len(self.together) < 2:
            return []
        there = (row for row in self.rows() if row.path in self.together and not row.caption)
        return [row.path for row in there if row.standing(self.moment) is not None]

    @property
    def chosen_items(self) -> list[PickedItem]:
        """What is chosen, as it was at the moment looked at; nothing where it did not stand then."""
        row = self.row_of(self.selected)
        there = row is not None and row.standing(self.moment) is not None
        paths = self.several or ([row.path] if row is not None and there else [])
        return [self.picked(path) for path in paths]

    @property
    def chosen(self) -> tuple[Row, Span | None] | None:
        """The selected row, and the version that stood at the chosen moment."""
        row = self.row_of(self.selected)
        if row is None:
            return None
        then = row.standing(self.moment)
        return row, None if then is None else then[1]

    def time_of(self, seq: int) -> int:
        """When a snapshot was taken."""
        return self._times[seq - 1]

    def columns(self, seqs: Sequence[int]) -> list[int]:
        """The pixel columns in sight at which some snapshots were taken.

        :param seqs: their numbers, rising.
        """
        axis, times = self.axis, self._times
        first, last = bisect_left(times, axis.start) + 1, bisect_right(times, axis.end)
        shown = seqs[bisect_left(seqs, first) : bisect_right(seqs, last)]
        begin, scale = axis.start, axis.width / (axis.end - axis.start)
        return sorted({int((times[seq - 1] - begin) * scale) for seq in shown})

    def nearest(self, time: int) -> int:
        """The snapshot nearest to a time."""
        times = self._times
        at = bisect_left(times, time)
        if at == 0 or (at < len(times) and times[at] - time < time - times[at - 1]):
            return min(at + 1, len(times))
        return at

    def last_before(self, time: int) -> int:
        """The last snapshot before a time; the first where all are later."""
        return max(1, bisect_left(self._times, time))

    def go(self, seq: int) -> None:
        """Choose a moment, within what there is, and bring it into view."""
        if self.tide:
            self.moment = min(max(seq, 1), len(self.tide))
            self.axis.reveal(self.time_of(self.moment))

    def mark(self, seq: int) -> None:
        """Set the second mark; on the moment itself it is taken away."""
        seq = min(max(seq, 1), len(self.tide))
        self.against = 0 if seq == self.moment else seq

    @property
    def stretch(self) -> tuple[int, int] | None:
        """The times of the two marks, the earlier first; None while there is only one."""
        if not self.against or not self.moment:
            return None
        times = sorted((self.time_of(self.moment), self.time_of(self.against)))
        return times[0], times[1]

    def step(self, by: int) -> None:
        """Some snapshots on or back."""
        self.go(self.moment + by)

    def step_change(self, forward: bool) -> bool:
        """To the next or previous change of the selected thing, or of the folder looked into; False if there
        is none."""
        changes = self.changes()
        at = bisect_right(changes, self.moment) if forward else bisect_left(changes, self.moment) - 1
        if not 0 <= at < len(changes):
            return False
        self.go(changes[at])
        return True

    def changes(self) -> list[int]:
        """Snapshots at which the selected thing appeared, changed or went; without one, anything in the
        folder."""
        row = self.row_of(self.selected)
        lines = (
            [row.line]
            if row is not None
            else [one.line for one in self.rows() if not one.depth or self.found]
        )
        found: set[int] = set()
        for line in lines:
            found.update(line.inside)
            for _, span in line.life(b""):
                found.add(span.first)
                if span.last is not None:
                    found.add(span.last + 1)
        return sorted(seq for seq in found if seq <= len(self.tide))

    def here_then(self) -> tuple[int, int]:
        """How many things were in the folder at the chosen moment, and how many had been there before and
        were gone."""
        lines = (
            self._views.get(self.root, ())
            if self.found is None
            else [row.line for row in self.rows() if not row.caption]
        )
        here = sum(1 for line in lines if line.at(self.moment) is not None)
        gone = sum(1 for line in lines if line.at(self.moment) is None and line.spans[0].first < self.moment)
        return here, gone

    def here_words(self) -> str:
        """The same in words; nothing while there is no snapshot."""
        here, gone = self.here_then()
        if not self.moment:
            return ""
        words = tr("{here} here then").format(here=number_words(here))
        return words + (" · " + tr("{gone} no longer here").format(gone=number_words(gone)) if gone else "")

    def extent(self, span: Span) -> tuple[int, int]:
        """Begin and end of a version as times; it stands until the snapshot that shows something else."""
        times = self._times
        after = len(times) if span.last is None else min(span.last + 1, len(times))
        return times[span.first - 1], times[after - 1]

    def row_words(self, row: Row, now: int) -> str:
        """A row in words, for those who do not see it."""
        readable = [span for _, span in row.life if span.kind != "x"]
        kind = (
            "folder"
            if row.is_folder
            else tr("{readable} versions").format(readable=len(readable))
            if len(readable) != 1
            else "1 version"
        )
        last = row.line.spans[-1].last
        seen = (
            tr("there now")
            if last is None
            else tr("last seen {time_of}").format(time_of=time_words(self.time_of(last), now))
        )
        if row.line.earlier:
            seen += ", " + tr("before that called {basename}").format(
                basename=printable(os.path.basename(row.line.earlier[-1].path))
            )
        if row.line.later:
            seen += ", " + tr("goes on as {basename}").format(
                basename=printable(os.path.basename(row.line.later))
            )
        lost = sum(1 for span in readable if self.is_lost(span))
        return "{title}: {kind}, {seen}{value}".format(
            title=row.title,
            kind=kind,
            seen=seen,
            value=", " + tr("content of {lost} lost").format(lost=number_words(lost)) if lost else "",
        )
