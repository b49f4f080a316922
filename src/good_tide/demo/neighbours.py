"""The other machines of the theatre that use the demo's store: what they hold, and what they left in it."""

from __future__ import annotations

import os
import shutil
from pathlib import Path
from typing import NamedTuple

from good_tide.core.clock import SECOND, SetClock
from good_tide.core.identifiers import MachineId, Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.records import Machine
from good_tide.core.rhythm import EVERY_HOUR, Rhythm
from good_tide.core.settings import Job
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.fleet import leave_status, retire
from good_tide.operations.stores.opening import Store

_HOUR = 3600 * SECOND


class _Neighbour(NamedTuple):
    """A machine, its job, how many hours before the story's end it took snapshots, and its files."""

    machine: Machine
    job: str
    hours: tuple[int, ...]
    files: tuple[str, ...]
    retired: bool = False


NEIGHBOURS = (
    _Neighbour(
        Machine(MachineId("d1" * 16), "stage-laptop"),
        "Lighting desk",
        (171, 170, 123, 121, 99, 98, 97),
        ("Cues/Act one.txt", "Cues/Act two.txt", "Patch.csv"),
    ),
    _Neighbour(
        Machine(MachineId("d2" * 16), "box-office"),
        "Ticket lists",
        (96, 95, 73, 71, 49, 47, 25, 23, 2, 0),
        ("Lists/Friday.csv", "Lists/Saturday.csv"),
    ),
    _Neighbour(
        Machine(MachineId("d3" * 16), "workshop"), "Drawings", (620, 618), ("Set/Harbour wall.txt",), True
    ),
)


def add_neighbours(store: Store, root: Path, state: Path, ends: int, allowed: tuple[str, ...]) -> None:
    """Let the other machines take their snapshots into the store.

    :param root: where their files are made up for as long as that takes. :param ends: when the story ends.
    :param allowed: the hours in which they take snapshots.
    """
    rhythm = Rhythm(rules=(EVERY_HOUR,), allowed=allowed)
    for one in NEIGHBOURS:
        home = root / one.machine.name
        for number, hours in enumerate(one.hours):
            clock = SetClock(Nanoseconds(ends - hours * _HOUR))
            _write(home, one, number, clock)
            taken = capture(store, CaptureRequest((home,), one.machine), clock, Silent(), state)
            job = Job(name=one.job, folders=(str(home),), stores=(), rhythm=rhythm)
            leave_status(store, job, one.machine, taken, clock)
        shutil.rmtree(home)
        if one.retired:
            retire(store, one.machine.name, one.job, ends - 400 * _HOUR)


def _write(home: Path, one: _Neighbour, number: int, clock: SetClock) -> None:
    """The machine's files as they were then: one of them is changed each time."""
    for place, name in enumerate(one.files):
        if number % len(one.files) == place or not (home / name).exists():
            (home / name).parent.mkdir(parents=True, exist_ok=True)
            (home / name).write_text(f"{one.job}: {name}, as it is at the {number + 1}. time\n" * 40)
            os.utime(home / name, ns=(clock.now(), clock.now()))
