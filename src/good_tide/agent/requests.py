"""What clients ask of the agent, beyond what the desks declare."""

from __future__ import annotations

from typing import Literal

import msgspec

from good_tide.core.happenings import Filter
from good_tide.core.ladder import Ladder
from good_tide.core.rhythm import Rhythm
from good_tide.core.settings import Holding, MailServer, Noise, Reporting, StoreUse
from good_tide.protocol.messages import PickedItem


class PathRequest(msgspec.Struct):
    """One path."""

    path: bytes


class PathAtRequest(msgspec.Struct):
    """A path in the snapshot of this name, which was taken at ``time`` (ns since 1970 UTC)."""

    path: bytes
    snapshot: str
    time: int = 0


class WordsRequest(msgspec.Struct):
    """Some words: a name, a folder, a search."""

    words: str


class PlanRequest(msgspec.Struct):
    """What is to be restored, and where to; empty: to where it was."""

    items: tuple[PickedItem, ...]
    into: str = ""
    existing: str = "set-aside"


class NumberRequest(msgspec.Struct):
    """The number of a plan."""

    number: int


class UnlockRequest(msgspec.Struct):
    """A passphrase, to be remembered or not."""

    words: str
    remember: bool = False


class CoverageRequest(msgspec.Struct):
    """Folders and rules to be kept."""

    folders: tuple[str, ...]
    rules: tuple[str, ...]


class WhyRequest(msgspec.Struct):
    """A path that is asked about under some folders and rules."""

    path: bytes
    folders: tuple[str, ...]
    rules: tuple[str, ...]
    home: str = ""


class UseRequest(msgspec.Struct):
    """How several stores are used."""

    use: StoreUse


class TwoRequest(msgspec.Struct):
    """Two paths."""

    one: str
    other: str


class CarryRequest(msgspec.Struct):
    """Folders of the stores to carry from and to."""

    source: str
    target: str


class RhythmRequest(msgspec.Struct):
    """When a job runs from now on, and what goes with it."""

    rhythm: Rhythm
    holding: Holding
    noise: Noise
    reporting: Reporting


class MomentRequest(msgspec.Struct):
    """A moment, in nanoseconds since 1970 UTC; 0: none."""

    moment: int


class ThenRequest(msgspec.Struct):
    """What the machine does after the last run of the day; None: nothing."""

    then: Literal["suspend", "power-off"] | None = None


class SwitchRequest(msgspec.Struct):
    """Something on or off."""

    on: bool


class ReportRequest(msgspec.Struct):
    """A report now: by mail, or into a file; of one job, or of all for the empty name."""

    job: str = ""
    mail: bool = False
    file: str = ""


class ExportRequest(msgspec.Struct):
    """The journal into a file, as far as a filter lets it through."""

    filter: Filter
    file: str


class LadderRequest(msgspec.Struct):
    """Another ladder for a job; ``agreed``: the person saw what it releases. ``precious``: patterns; None: as
    they are."""

    ladder: Ladder
    agreed: bool = False
    precious: tuple[str, ...] | None = None


class PinRequest(msgspec.Struct):
    """A snapshot by its name, to be pinned or not."""

    snapshot: str
    on: bool = True
    label: str = ""


class MailRequest(msgspec.Struct):
    """A mail server, with the password of its login if it was typed, and whom a test is to reach."""

    server: MailServer
    password: str = ""
    to: str = ""
