"""Taking the disk of a store away safely."""

from __future__ import annotations

from pathlib import Path

from good_tide.operations.context import Context


def eject(context: Context, folder: Path) -> str:
    """Write everything out, unmount the disk that a store lies on, and switch it off. Returns what became of
    it, as a sentence.

    Raises:
        GoodTideError: it cannot be, or something still uses it.
    """
    disk = context.disks.of_folder(folder)
    became = context.disks.eject(folder)
    words = f"{disk.name if disk is not None else folder} is {became}"
    context.journal.add("good", None, words)
    return words
