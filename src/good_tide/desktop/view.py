"""What a view of the window is, and how it is found: each is declared by its own package."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from good_tide.core.identifiers import SnapshotId
from good_tide.core.status import Action
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.protocol.agent_calls import Overview


class View(QWidget):
    """A part of the window that is entered from its rail. What it does besides its own business it asks of
    the window by these signals."""

    refresh_wanted = Signal()
    """Bring everything up to date."""
    job_wanted = Signal(object)
    """Show another job, by its identity."""
    path_wanted = Signal(bytes)
    """A path that was named from outside is to be looked up."""
    told = Signal(str, str, bool)
    """A notice: words, detail, and whether it is trouble."""
    offered = Signal(object)
    """Something for whichever view takes it (``take_offer``)."""
    recovery = Signal(object)
    """A store was made or changed, with a recovery key that is to be shown (``MadeView``)."""

    def show_job(self, overview: Overview) -> None:
        """Another look at the job; what is being changed here stays as it is."""

    def entered(self) -> None:
        """The view came to the front."""

    def take_offer(self, offer: object) -> bool:
        """Take something that another view offers; False if that is not for this one."""
        return False


class ViewKind(NamedTuple):
    """How a view is called, its icon, what makes it, and which actions of the status sentence lead to it."""

    title: str
    icon: str
    make: Callable[[Palette, AgentLink], View]
    answers: frozenset[Action] = frozenset()


class RestoreOffer(NamedTuple):
    """Everything is to be as it was in a snapshot, which was taken at ``time``; below another home, if the
    one as it was and the one here are given."""

    snapshot: SnapshotId
    time: int
    homes: tuple[str, str] | None = None


class RuleOffer(NamedTuple):
    """A rule of coverage that a view proposes; it is weighed and kept where the others are."""

    rule: str


class PathOffer(NamedTuple):
    """A path is to be shown, as it was in the last snapshot before a time (nanoseconds since 1970 UTC; 0: in
    the newest); or what is missing in it."""

    path: bytes
    is_folder: bool
    before: int = 0
    missing: bool = False
