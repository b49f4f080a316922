"""What a snapshot is to be taken of."""

from __future__ import annotations

from pathlib import Path

import msgspec

from good_tide.core.identifiers import Nanoseconds
from good_tide.core.records import Machine, Tally
from good_tide.core.rules import Rule
from good_tide.operations.snapshot.touched import TouchedSince


class CaptureRequest(msgspec.Struct, frozen=True):
    """What to take a snapshot of.

    :param folders: absolute paths.
    :param rules: the rules of coverage; ``kinds`` adds endings to kinds, ``home`` is what ``~/`` stands for,
        and ``network`` holds the device numbers of network mounts.
    :param at: the snapshot's time if it is not now, nanoseconds since 1970 UTC.
    :param own: folders of this program, such as the holding area, which are never taken in.
    :param missing_is_gap: a folder that is not there is named in the snapshot instead of refusing the run.
    :param job: the job that takes it, as the text of a job file.
    :param touched: tells where something happened since the last snapshot, from a watch of the folders.
    :param expected: files and bytes that a first snapshot is expected to have, for its progress.
    """

    folders: tuple[Path, ...]
    machine: Machine
    rules: tuple[Rule, ...] = ()
    kinds: dict[str, tuple[str, ...]] = {}
    home: str = ""
    network: frozenset[int] = frozenset()
    label: str = ""
    at: Nanoseconds | None = None
    missing_is_gap: bool = False
    own: tuple[Path, ...] = ()
    touched: TouchedSince | None = None
    expected: Tally | None = None
    job: str = ""
