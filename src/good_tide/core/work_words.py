"""What long work is called."""

from __future__ import annotations

from good_tide.core.progress import WorkKind
from good_tide.core.records import HeavyFile
from good_tide.core.translation import tr
from good_tide.core.words import printable, size_words

_WORK = {
    WorkKind.SNAPSHOT: tr("Taking a snapshot"),
    WorkKind.RESTORE: tr("Restoring"),
    WorkKind.UNDO: tr("Undoing a restore"),
    WorkKind.CARRY: tr("Carrying snapshots over"),
    WorkKind.RUN_DUE: tr("Running everything that is due"),
    WorkKind.RELEASE: tr("Releasing snapshots"),
    WorkKind.PURGE: tr("Taking out of all history"),
    WorkKind.PROOF: tr("Reading a store back"),
    WorkKind.REPAIR: tr("Repairing a store"),
    WorkKind.REPLACE: tr("Going on with another disk"),
    WorkKind.HAND_OUT: tr("Handing out what was"),
}


def work_words(what: WorkKind, paused: bool) -> str:
    """What the agent is doing in words."""
    return _WORK[what] + (", " + tr("paused") if paused else "")


def heavy_words(file: HeavyFile) -> tuple[str, str]:
    """What is said of a large file that was read whole for little: what happened, and what it means."""
    return (
        tr("{path} was read whole, {read}, for {new} that changed").format(
            path=printable(file.path), read=size_words(file.read), new=size_words(file.new)
        ),
        tr("Only what changed is stored, but a run lasts as long as the file takes to be read."),
    )
