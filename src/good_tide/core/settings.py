"""Settings of a job, as values."""

from __future__ import annotations

import msgspec

from good_tide.core.records import Machine


class Job(msgspec.Struct, frozen=True, kw_only=True):
    """What to protect and where to.

    :param folders: absolute paths of the covered folders.
    :param store: the store's directory.
    :param disk: what people call the disk the store is on.
    :param machine: the workstation, if it is not the one the agent runs on (the demo's is made up).
    :param passphrase_file: a file with the store's passphrase; without one the window asks.
    :param every_minutes: how often a snapshot is meant to be taken; shown, not yet acted on.
    """

    name: str
    folders: tuple[str, ...]
    store: str
    disk: str = ""
    machine: Machine | None = None
    passphrase_file: str = ""
    every_minutes: int = 60
