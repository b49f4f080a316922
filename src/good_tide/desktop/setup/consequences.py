"""What the choices on the set-up page lead to, in words: how much fits, how long the first snapshot takes,
how long the room lasts."""

from __future__ import annotations

from good_tide.core.places import Level
from good_tide.core.translation import tr
from good_tide.core.words import count_words, duration_words, number_words
from good_tide.desktop.setup.disk_rows import PlaceChooser
from good_tide.protocol.coverage_calls import SurveyView

_RATES = {"internal": 120e6, "external": 70e6, "network": 35e6}
"""Bytes a second at which a first snapshot goes into each kind of disk, for the estimate; measured with
ordinary disks."""

_DAYS_IN_MONTH = 30.4


def room_words(place: PlaceChooser, survey: SurveyView | None) -> str:
    """How often what is covered fits on the chosen disk, and how long the first snapshot takes."""
    disk = place.disk
    if not place.folder:
        return tr("No place is chosen. Connect a disk: it appears by itself.")
    if place.examined is None:
        return tr("Looking…")
    bad = place.level() is Level.BAD
    if bad or disk is None or survey is None or not survey.size or not disk.facts.total:
        return tr("This place cannot take a store as it is.") if bad else ""
    times = disk.facts.free / survey.size
    first = duration_words(max(1.0, survey.size / _RATES[disk.facts.kind]))
    fits = (
        tr("Fits {times} times.").format(times=number_words(times))
        if times < 1000
        else tr("Fits more than a thousand times.")
    )
    takes = tr("The first snapshot takes about {first}.").format(first=first)
    return " ".join(part for part in (fits, takes, _lasting_words(survey, disk.facts.free)) if part)


def _lasting_words(survey: SurveyView, free: int) -> str:
    """How long the room lasts at the pace of the last week; compression and deduplication make it longer."""
    if not survey.done:
        return ""
    weekly = sum(
        share.fresh
        for share in survey.folders
        if not any(_inside(share.path, other.path) for other in survey.folders)
    )
    if not weekly:
        return tr("Nothing was changed in the last week, so the room lasts.")
    months = (free - survey.size) / weekly * 7 / _DAYS_IN_MONTH
    if months > 240:
        return tr("At the pace of the last week the room lasts for decades.")
    lasts = (
        count_words(round(months), "month")
        if months >= 1
        else count_words(max(0, round(months * _DAYS_IN_MONTH)), "day")
    )
    return tr("At the pace of the last week the room lasts about {lasts}.").format(lasts=lasts)


def _inside(path: bytes, other: bytes) -> bool:
    return path.startswith(other.rstrip(b"/") + b"/")
