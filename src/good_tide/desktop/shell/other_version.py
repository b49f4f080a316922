"""The window meets an agent of another version: one that was started before the program was renewed, say."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject

from good_tide import __version__
from good_tide.core.translation import tr
from good_tide.desktop.link import AgentLink
from good_tide.desktop.shell.strips import NoticeStrip
from good_tide.protocol.agent_calls import AgentFacts, Hello
from good_tide.protocol.contract import PROTOCOL_VERSION
from good_tide.protocol.starting import restart_agent


class OtherVersion(QObject):
    """Says so, and offers to start the agent anew. The window connects to the new one by itself."""

    def __init__(self, link: AgentLink, notice: NoticeStrip, settings: Path, parent: QObject) -> None:
        super().__init__(parent)
        self._link, self._notice, self._settings = link, notice, settings
        self._met = False
        link.connected.connect(lambda: link.ask(Hello(), self.greet))
        link.foreign.connect(self._tell)

    def greet(self, facts: AgentFacts) -> None:
        """The agent said who it is."""
        if (facts.protocol, facts.version) != (PROTOCOL_VERSION, __version__):
            self._tell()
        elif self._met:
            self._met = False
            self._notice.hide()

    def _tell(self) -> None:
        if self._met:
            return
        self._met = True
        self._notice.tell(
            tr("The agent that runs is of another version than this window, and has to be started anew."),
            tr("What it is doing is stopped, and goes on afterwards."),
            trouble=True,
            act=(tr("Start the agent anew"), self._restart),
        )

    def _restart(self) -> None:
        self._met = False  # should it meet the same one again, it says so again
        restart_agent(self._settings)
