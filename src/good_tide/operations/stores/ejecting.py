"""Taking the disk of a store away safely."""

from __future__ import annotations

from good_tide.core.errors import PersonError
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.storage.place import StorePlace


def eject(context: Context, where: StorePlace) -> str:
    """Write everything out, unmount the disk that a store lies on, and switch it off. Returns what became of
    it, as a sentence.

    Raises:
        GoodTideError: it cannot be, or something still uses it.
    """
    folder = where.folder
    if folder is None:
        raise PersonError(
            tr("{called} is on no disk").format(called=where.called), tr("There is nothing to take away")
        )
    disk = context.disk_of(where)
    became = context.disks.eject(folder)
    words = tr("{name} is {became}").format(name=disk.name if disk is not None else folder, became=became)
    context.journal.add("good", None, words)
    return words
