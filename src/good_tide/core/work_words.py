"""What long work is called."""

from __future__ import annotations

from good_tide.core.progress import WorkKind

_WORK = {
    WorkKind.SNAPSHOT: "Taking a snapshot",
    WorkKind.RESTORE: "Restoring",
    WorkKind.UNDO: "Undoing a restore",
    WorkKind.CARRY: "Carrying snapshots over",
    WorkKind.RUN_DUE: "Running everything that is due",
    WorkKind.RELEASE: "Releasing snapshots",
    WorkKind.PURGE: "Taking out of all history",
    WorkKind.PROOF: "Reading a store back",
    WorkKind.REPAIR: "Repairing a store",
    WorkKind.REPLACE: "Going on with another disk",
}


def work_words(what: WorkKind, paused: bool) -> str:
    """What the agent is doing in words."""
    return _WORK[what] + (", paused" if paused else "")
