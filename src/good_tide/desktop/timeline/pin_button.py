"""Pinning the snapshot that is looked at, or taking its pin away."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QInputDialog, QToolButton

from good_tide.core.identifiers import JobId, SnapshotId
from good_tide.core.translation import tr
from good_tide.desktop.link import AgentLink
from good_tide.protocol.history_calls import PinSnapshot


class PinButton(QToolButton):
    """Says whether a snapshot is pinned. ``changed``: it is now, or no longer."""

    changed = Signal()

    def __init__(self, link: AgentLink) -> None:
        super().__init__()
        self._link, self._job = link, JobId("")
        self._snapshot: SnapshotId | None = None
        self.label: QInputDialog | None = None
        self.clicked.connect(self._act)

    def show_snapshot(
        self, job: JobId, snapshot: SnapshotId | None, pinned: Mapping[SnapshotId, str]
    ) -> None:
        """What can be done with a snapshot; ``pinned`` are the labels of those that are."""
        self._job, self._snapshot = job, snapshot
        self.setVisible(snapshot is not None)
        is_pinned = snapshot is not None and snapshot in pinned
        why = pinned.get(snapshot, "") if snapshot is not None else ""
        self.setText(
            tr("Pinned{value}").format(value=f": {why}" if why else "")
            if is_pinned
            else tr("Pin this snapshot…")
        )
        self.setToolTip(
            tr("Take the pin away") if is_pinned else tr("Keep this snapshot, whatever the ladder says")
        )
        self.setCheckable(is_pinned)
        self.setChecked(is_pinned)

    def _act(self) -> None:
        if self._snapshot is None:
            return
        if self.isCheckable():
            self._pin(self._snapshot, False, "")
            return
        snapshot = self._snapshot
        self.label = QInputDialog(self)
        self.label.setWindowTitle(tr("Pin this snapshot"))
        self.label.setLabelText(tr("No thinning releases it. Why is it to stay? (This may be left empty.)"))
        self.label.textValueSelected.connect(lambda words: self._pin(snapshot, True, words))
        self.label.open()

    def _pin(self, snapshot: SnapshotId, on: bool, words: str) -> None:
        call = PinSnapshot(self._job, snapshot, on, words)
        self._link.ask(call, lambda done: self.changed.emit())
