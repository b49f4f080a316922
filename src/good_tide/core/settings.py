"""Settings of a job, as values."""

from __future__ import annotations

from typing import Literal

import msgspec

from good_tide.core.records import Machine
from good_tide.core.rules import Rule, parse_rule

StoreUse = Literal["both", "turns"]
"""With several stores: a snapshot into each of them every time, or into one after the other in turn."""


class StoreRef(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """Where a store is found: on a disk, known by what stays, or by its path alone.

    :param disk: ``places.DiskFacts.id`` of the disk; empty: ``path`` says it all.
    :param inside: the store's folder from the disk's mount point.
    :param path: the store's directory where it was last seen.
    :param name: what people call the disk.
    """

    path: str
    name: str = ""
    disk: str = ""
    inside: str = ""


class Job(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """What to protect and where to.

    :param folders: absolute paths of the covered folders.
    :param rules: rules of coverage, a line each.
    :param kinds: further endings for kinds of files.
    :param machine: the workstation, if it is not the one the agent runs on (the demo's is made up).
    :param home: what ``~/`` in rules stands for; the person's home folder if empty.
    :param passphrase_file: a file with the stores' passphrase; without one the key ring or the person is asked.
    :param every_minutes: how often a snapshot is meant to be taken; shown, not yet acted on.
    """

    name: str
    folders: tuple[str, ...]
    stores: tuple[StoreRef, ...]
    store_use: StoreUse = "both"
    rules: tuple[str, ...] = ()
    kinds: dict[str, tuple[str, ...]] = {}
    machine: Machine | None = None
    home: str = ""
    passphrase_file: str = ""
    every_minutes: int = 60

    def parsed_rules(self) -> tuple[Rule, ...]:
        """The rules.

        Raises:
            RuleError: one cannot be read.
        """
        return tuple(parse_rule(line) for line in self.rules)
