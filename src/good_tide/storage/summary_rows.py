"""The bytes of a summary: rows of what is known of snapshots. ``docs/format.md`` ("Summaries")."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import msgspec

from good_tide.core.identifiers import NAME_BYTES, MachineId, SnapshotId
from good_tide.core.records import Brief, Machine, Tally
from good_tide.core.translation import tr
from good_tide.storage.decoding import unpacked


class _Row(msgspec.Struct, array_like=True, frozen=True, gc=False):
    name: bytes
    time: int
    machine: int
    label: str
    gaps: int
    folders: int
    tally: Tally


class _Summary(msgspec.Struct, array_like=True, frozen=True):
    """Rows name their machine and their covered folders by the numbers in these tables."""

    machines: list[Machine]
    folders: list[tuple[bytes, ...]]
    rows: list[_Row]


class SummaryRows:
    """A summary that was read, or is about to be written."""

    def __init__(self, said: _Summary) -> None:
        self._said = said
        self._newest: dict[MachineId, list[tuple[int, SnapshotId]]] = {}

    @classmethod
    def of(cls, briefs: Sequence[Brief]) -> SummaryRows:
        """What is to be kept of some snapshots; those whose folders are not known count as having none."""
        machines = list({brief.machine: None for brief in briefs})
        folders = list({brief.folders or (): None for brief in briefs})
        machine_at = {machine: number for number, machine in enumerate(machines)}
        folders_at = {paths: number for number, paths in enumerate(folders)}
        rows = [
            _Row(
                bytes.fromhex(one.id),
                one.time,
                machine_at[one.machine],
                one.label,
                one.gaps,
                folders_at[one.folders or ()],
                one.tally,
            )
            for one in briefs
        ]
        return cls(_Summary(machines, folders, rows))

    @classmethod
    def read(cls, plain: bytes, file: str) -> SummaryRows:
        """What a summary says.

        Raises:
            DamageError: the bytes are none.
        """
        said = unpacked(plain, _Summary, file, tr("a summary"))
        fits = (
            {len(row.name) for row in said.rows} <= {NAME_BYTES}
            and {row.machine for row in said.rows}.issubset(range(len(said.machines)))
            and {row.folders for row in said.rows}.issubset(range(len(said.folders)))
        )
        return cls(said if fits else _Summary([], [], []))

    def encoded(self) -> bytes:
        """Plain bytes."""
        return msgspec.msgpack.encode(self._said)

    def __len__(self) -> int:
        return len(self._said.rows)

    @cached_property
    def names(self) -> list[SnapshotId]:
        """Which snapshots it knows."""
        every = b"".join([row.name for row in self._said.rows]).hex()
        return [SnapshotId(every[at : at + 2 * NAME_BYTES]) for at in range(0, len(every), 2 * NAME_BYTES)]

    @cached_property
    def until(self) -> int:
        """When the newest of them was taken; before everything for none."""
        return max((row.time for row in self._said.rows), default=-(1 << 63))

    def newest_of(self, machine: MachineId) -> list[tuple[int, SnapshotId]]:
        """When each of a machine's snapshots was taken, the newest first."""
        found = self._newest.get(machine)
        if found is None:
            own = {number for number, known in enumerate(self._said.machines) if known.id == machine}
            found = self._newest[machine] = [
                (row.time, name)
                for name, row in zip(self.names, self._said.rows, strict=True)
                if row.machine in own
            ]
            found.sort(reverse=True)
        return found

    @cached_property
    def briefs(self) -> list[Brief]:
        """What it says of each."""
        machines, folders = self._said.machines, self._said.folders
        return [
            Brief(name, row.time, machines[row.machine], row.tally, row.label, row.gaps, folders[row.folders])
            for name, row in zip(self.names, self._said.rows, strict=True)
        ]
