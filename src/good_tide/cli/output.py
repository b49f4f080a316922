"""What commands print, and with which code they end."""

from __future__ import annotations

import base64
import contextlib
import io
import os
import select
import shutil
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from itertools import chain, islice
from types import FrameType
from typing import Any

import msgspec
from rich.cells import cell_len

from good_tide.cli.folding import fitted, folded_line, with_long_cells_below
from good_tide.core.errors import GoodTideError
from good_tide.core.progress import Progress, Steering
from good_tide.core.records import Snapshot
from good_tide.core.translation import tr
from good_tide.core.words import count_words, harmless, iso, printable, size_words
from good_tide.core.work_words import heavy_words
from good_tide.protocol.faults import DAMAGE, PERSON, PLACE, code_of
from good_tide.protocol.faults import STOPPED as STOPPED_CODE
from good_tide.system.limits import exit_after

DONE, WITH_GAPS, WRONG_USAGE, NOT_USABLE, DAMAGED, STOPPED = 0, 1, PERSON, PLACE, DAMAGE, STOPPED_CODE

_LONG_TABLE = 300
"""Rows from which on a table is printed plainly."""
_STOPPING_SECONDS = 15.0
"""How long a command may take to stop by itself; what a disk that hangs holds up is then left. Nothing is
lost by it."""


def make_writable() -> None:
    """Let what is printed go nowhere where it is closed, and as escapes where it cannot be written otherwise,
    instead of ending the command."""
    if sys.stdout is None:  # closed, as with ``>&-``
        sys.stdout = os.fdopen(os.open(os.devnull, os.O_WRONLY), "w")
    if sys.stderr is None:
        sys.stderr = os.fdopen(os.open(os.devnull, os.O_WRONLY), "w")
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")


def is_terminal() -> bool:
    """Whether standard output is read by a person."""
    return sys.stdout.isatty()


def width() -> int:
    """Columns of the terminal."""
    return shutil.get_terminal_size().columns


def exit_code(error: GoodTideError) -> int:
    """The code a command ends with after an error."""
    return code_of(error)


def print_json(value: dict[str, Any]) -> None:
    """One JSON object on standard output."""
    sys.stdout.write(msgspec.json.encode(value).decode() + "\n")


def print_json_list(
    before: dict[str, Any],
    name: str,
    rows: Iterable[dict[str, Any]],
    after: Callable[[], dict[str, Any]] = dict,
) -> None:
    """One JSON object with a long list, of which nothing is kept: what stands before it, its name and rows,
    and what is known when they were written."""
    head = msgspec.json.encode(before).decode()[1:-1]
    sys.stdout.write("{" + head + ("," if head else "") + f'"{name}":[')
    for number, row in enumerate(rows):
        sys.stdout.write(("," if number else "") + msgspec.json.encode(row).decode())
    tail = msgspec.json.encode(after()).decode()[1:-1]
    sys.stdout.write("]" + ("," if tail else "") + tail + "}\n")


def print_error(error: GoodTideError, as_json: bool) -> None:
    """The error as a sentence on standard error; with ``--json`` as an object too."""
    if as_json:
        said = {"error": error.what, "advice": error.advice, "code": exit_code(error)}
        sys.stderr.write(msgspec.json.encode(said).decode() + "\n")
    else:
        _complain(str(error))


def say_noticed(what: str, todo: str) -> None:
    """Something strange, on standard error: the command goes on."""
    _complain(f"{what}. {todo}.")


def say_aside(words: str) -> None:
    """Something that is no result, on standard error."""
    _complain(words)


def _complain(words: str) -> None:
    sys.stderr.write(harmless(f"good-tide: {words}", lines=True) + "\n")
    sys.stderr.flush()


def nobody_reads() -> bool:
    """Whether standard output is a pipe whose reader has gone, as with ``| head``."""
    poll = select.poll()
    poll.register(1, 0)
    return any(event & select.POLLERR for _, event in poll.poll(0))


def path_fields(path: bytes, field: str = "path") -> dict[str, str]:
    """A path for JSON: text with backslash escapes, and base64 beside it where the bytes are no UTF-8."""
    try:
        return {field: path.decode("utf-8")}
    except UnicodeDecodeError:
        return {
            field: path.decode("utf-8", "backslashreplace"),
            f"{field}_bytes": base64.b64encode(path).decode(),
        }


def table(headings: list[str], all_rows: Iterable[list[str]], right: tuple[int, ...] = ()) -> None:
    """An aligned table; columns in ``right`` hold numbers. On a terminal that is too narrow long paths and
    sentences are folded in their column, or stand below their row. Of many rows the first ones say how wide
    columns are, and all are written as they come."""
    coming = iter(all_rows)
    rows = list(islice(coming, _LONG_TABLE + 1))
    if len(rows) > _LONG_TABLE:
        _plain_table(headings, rows, right, coming)
        return
    if not (is_terminal() or any("\n" in cell for row in rows for cell in row)):
        _plain_table(headings, rows, right)
        return
    from rich.console import Console  # of a tenth of a second that no script waits for
    from rich.table import Table

    if is_terminal():
        shown = [[harmless(cell) for cell in row] for row in rows]
        fits = fitted(headings, shown, right, width())
        if fits is None:
            for line in with_long_cells_below(headings, shown, right, width()):
                sys.stdout.write(line + "\n")
            return
        rows = fits
    grid = Table(box=None, pad_edge=False, header_style="bold")
    for number, heading in enumerate(headings):
        grid.add_column(
            heading,
            justify="right" if number in right else "left",
            overflow="fold",
            no_wrap=not is_terminal(),
        )
    for row in rows:
        grid.add_row(*(harmless(cell, lines=True).replace("[", r"\[") for cell in row))
    wide = None if is_terminal() else 4096
    Console(highlight=False, width=wide, soft_wrap=True).print(grid)


def _plain_table(
    headings: list[str], rows: list[list[str]], right: tuple[int, ...], more: Iterable[list[str]] = ()
) -> None:
    """The same for scripts, and for many rows: lines as long as they are.

    :param more: rows that follow; none is kept.
    """
    shown = [headings, *([harmless(cell) for cell in row] for row in rows)]
    wide = [max(cell_len(row[number]) for row in shown) for number in range(len(headings))]
    for row in chain(shown, ([harmless(cell) for cell in row] for row in more)):
        cells = [
            (
                " " * (wide[number] - cell_len(cell)) + cell
                if number in right
                else cell + " " * (wide[number] - cell_len(cell))
            )
            for number, cell in enumerate(row)
        ]
        sys.stdout.write("  ".join(cells).rstrip() + "\n")


def say(text: str) -> None:
    """A line for people. What a store or a file name says does not move their terminal, which folds it
    between words."""
    shown = harmless(text, lines=True)
    if is_terminal():
        shown = "\n".join(folded_line(line, width()) for line in shown.split("\n"))
    sys.stdout.write(shown + "\n")


def show_path(path: bytes) -> str:
    """A path for people."""
    return printable(path)


@contextlib.contextmanager
def steered(form: str | None, as_json: bool) -> Iterator[Steering]:
    """A control for a long command: shows progress, and turns Ctrl+C and a termination signal into a clean
    stop.

    :param form: ``json`` for JSON lines on standard error; otherwise a bar, where standard error is a
        terminal.
    """
    if form == "json":
        steering = Steering(_json_lines())
        bar: contextlib.AbstractContextManager[object] = contextlib.nullcontext()
    elif sys.stderr.isatty() and not as_json:
        from rich.console import Console
        from rich.progress import (
            BarColumn,
            DownloadColumn,
            TextColumn,
            TimeRemainingColumn,
            TransferSpeedColumn,
        )
        from rich.progress import Progress as Bar

        progress = Bar(
            TextColumn("{task.description}"),
            BarColumn(),
            DownloadColumn(binary_units=True),
            TransferSpeedColumn(),
            TimeRemainingColumn(),
            console=Console(stderr=True, highlight=False, soft_wrap=True),
            transient=True,
        )
        task = progress.add_task("", total=None, visible=False)

        def show(report: Progress) -> None:
            progress.update(
                task,
                description=harmless(report.phase),
                completed=report.bytes_done,
                total=report.bytes_total or None,
                visible=True,
            )

        steering, bar = Steering(show), progress
    else:
        steering, bar = Steering(), contextlib.nullcontext()

    ends: list[threading.Timer] = []

    def stop(number: int, frame: FrameType | None) -> None:
        steering.stop()
        ends.append(exit_after(_STOPPING_SECONDS, STOPPED))

    in_main = threading.current_thread() is threading.main_thread()
    before = (
        {number: signal.signal(number, stop) for number in (signal.SIGINT, signal.SIGTERM)} if in_main else {}
    )
    try:
        with bar:
            yield steering
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
        for timer in ends:
            timer.cancel()


def _json_lines() -> Any:
    last = 0.0

    def show(report: Progress) -> None:
        nonlocal last
        now = time.monotonic()
        if now - last >= 0.2:
            last = now
            sys.stderr.write(msgspec.json.encode(report).decode("utf-8", "replace") + "\n")
            sys.stderr.flush()

    return show


def named_snapshot(snapshot: Snapshot) -> dict[str, Any]:
    """Which snapshot something is from, for JSON."""
    record = snapshot.record
    return {"snapshot": snapshot.id, "time": iso(record.time), "machine": record.machine.name}


def snapshot_fields(taken: Snapshot) -> dict[str, Any]:
    """A snapshot that was taken, for JSON."""
    record, tally = taken.record, taken.tally
    return {
        "snapshot": taken.id,
        "time": iso(record.time),
        "files": tally.files,
        "folders": tally.folders,
        "bytes": tally.bytes,
        "changed_files": tally.changed_files,
        "new_bytes": tally.new_bytes,
        "stored_bytes": tally.stored_bytes,
        "left_out": [
            {**path_fields(item.path), "reason": item.reason, "detail": item.detail}
            for item in record.left_out
        ],
        "unsteady": [path_fields(path) for path in record.unsteady],
        "heavy": [
            {**path_fields(file.path), "read_bytes": file.read, "new_bytes": file.new}
            for file in record.heavy
        ],
        "seconds": round(tally.seconds, 3),
    }


def say_snapshot(taken: Snapshot) -> None:
    """A snapshot that was taken, for people."""
    record, tally = taken.record, taken.tally
    say(
        tr("Snapshot {id} of {files}, {bytes}.").format(
            id=taken.id[:12], files=count_words(tally.files, "file"), bytes=size_words(tally.bytes)
        )
    )
    say(
        tr("{changed_files}, {new_bytes} new; the store grew by {stored_bytes}.").format(
            changed_files=count_words(tally.changed_files, "changed file"),
            new_bytes=size_words(tally.new_bytes),
            stored_bytes=size_words(tally.stored_bytes),
        )
    )
    for item in record.left_out:
        say(
            tr("Left out: {path} ({detail})").format(
                path=show_path(item.path), detail=item.detail or item.reason
            )
        )
    for file in record.heavy:
        what, means = heavy_words(file)
        say(f"{what}. {means}")
    for path in record.unsteady:
        say(tr("Changed while it was read: {path}").format(path=show_path(path)))
