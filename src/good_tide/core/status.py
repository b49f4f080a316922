"""The status sentence: what is so, computed from facts."""

from __future__ import annotations

import enum

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.words import count_words, duration_words, size_words, time_words

_DAY = 86400 * SECOND


class Mood(enum.StrEnum):
    """How the state is to be taken; the shape of the sign beside the sentence follows it."""

    WELL = "well"
    WORKING = "working"
    ATTENTION = "attention"
    HARM = "harm"


class Status(msgspec.Struct, frozen=True):
    """A sentence, a second one with detail, and the mood."""

    mood: Mood
    sentence: str
    detail: str = ""


_WORK = {"snapshot": "Taking a snapshot", "restore": "Restoring", "undo": "Undoing a restore", "carry": "Carrying snapshots over"}


def work_words(what: str, paused: bool) -> str:
    """What the agent is doing (``protocol.messages.Work.what``), in words."""
    return _WORK[what] + (", paused" if paused else "")


def status(
    state: str, disk: str, last: int | None, gaps: int, now: int, free: int | None, working: str = "", paused: bool = False
) -> Status:
    """The status of a job.

    :param state: as in ``protocol.messages.Overview``.
    :param last: time of the newest snapshot, with how many ``gaps``.
    :param free: bytes free on the disk, None if not known.
    :param working: what the agent is doing, empty for nothing.
    """
    room = f"{disk} has {size_words(free)} free." if free is not None else ""
    if working:
        return Status(Mood.WORKING, f"{work_words(working, paused)}.", room)
    if state == "no-job":
        return Status(Mood.ATTENTION, "Nothing is protected on this machine yet.")
    if state == "away":
        seen = "" if last is None else f" The last snapshot is of {time_words(last, now)}."
        return Status(Mood.ATTENTION, f"The disk {disk} is not here.", f"Connect it to take snapshots and look back.{seen}")
    if state == "locked":
        return Status(Mood.ATTENTION, f"The store on {disk} is locked.", "Give its passphrase to take snapshots and look back.")
    if state == "catching-up":
        return Status(Mood.WORKING, "Reading history.", f"{room} Snapshots can be taken meanwhile.".strip())
    if state == "damaged":
        return Status(Mood.HARM, f"The store on {disk} is damaged.")
    if last is None:
        return Status(Mood.ATTENTION, "There is no snapshot yet.", f"Take the first one. {room}".strip())
    age = (now - last) / SECOND
    ago = "" if age < 3600 else f", {duration_words(age)} ago"
    if gaps:
        return Status(Mood.ATTENTION, f"With gaps: {count_words(gaps, 'file')} could not be read at {time_words(last, now)}.", room)
    mood = Mood.WELL if now - last < 7 * _DAY else Mood.ATTENTION
    lead = "" if mood is Mood.WELL else "A week without a snapshot: "
    return Status(mood, f"{lead}{'l' if lead else 'L'}ast snapshot {time_words(last, now)}{ago}.", room)
