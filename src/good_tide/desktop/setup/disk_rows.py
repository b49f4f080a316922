"""Choosing where a store is to be: the disks there are, live, each with its room and the worst that speaks
against it."""

from __future__ import annotations

import shutil

from PySide6.QtCore import QProcess, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QButtonGroup,
    QFileDialog,
    QFrame,
    QLineEdit,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.places import Level, ServerNeed, worst
from good_tide.core.translation import tr
from good_tide.core.words import size_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import hatch
from good_tide.desktop.painting.widgets import OneLineRadio, button, label, line
from good_tide.desktop.setup.server_dialog import ServerDialog
from good_tide.desktop.setup.verdicts import CheckList, LevelSign
from good_tide.protocol.faults import Fault
from good_tide.protocol.setup_calls import DiskView, ExaminedView, ExamineFolder, LookAtDisks

_DISK_TOOLS = ("gnome-disks", "partitionmanager", "gparted", "blivet-gui")


def disk_tool() -> str | None:
    """The desktop's own program to format disks with; this one never does it."""
    return next((found for tool in _DISK_TOOLS if (found := shutil.which(tool))), None)


_LIST_HEIGHT = 150
"""Pixels of the list of disks at least; the page scrolls where type is large."""


class RoomBar(QWidget):
    """How full a disk is: hatched what is taken, plain what is free, and a mark for what is covered."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._total = self._free = self._wanted = 0
        self.setFixedHeight(10)

    def show_room(self, total: int, free: int, wanted: int | None) -> None:
        """Show bytes in all, free, and wanted for what is covered."""
        self._total, self._free, self._wanted = total, free, wanted or 0
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        look, width = self._look, float(self.width())
        painter.setPen(look.color("shoal_deep"))
        painter.setBrush(look.color("kelp_soft"))
        painter.drawRoundedRect(QRectF(0.5, 0.5, width - 1, 9), 3, 3)
        if not self._total:
            return
        taken = width * (self._total - self._free) / self._total
        painter.setBrush(hatch(look, "paper", "shoal_deep"))
        painter.drawRoundedRect(QRectF(0.5, 0.5, max(2.0, taken - 1), 9), 3, 3)
        if self._wanted:
            wide = min(width - taken, max(3.0, width * self._wanted / self._total))
            painter.fillRect(QRectF(taken, 1, wide, 8), look.color("kelp"))


class DiskRow(QFrame):
    """One disk."""

    chosen = Signal(str)

    def __init__(self, look: Palette, view: DiskView, wanted: int | None) -> None:
        super().__init__()
        self.setObjectName("row")
        self.view = view
        facts = view.facts
        self.radio = OneLineRadio(facts.name + (" " + tr("(proposed)") if view.best else ""))
        self.radio.setStyleSheet("font-weight: 600;")
        sign = LevelSign(look, worst(list(view.checks)))
        kind = {"internal": tr("built in"), "external": tr("external"), "network": tr("network")}[facts.kind]
        room = (
            tr("{free} free of {total}").format(free=size_words(facts.free), total=size_words(facts.total))
            if facts.total
            else ""
        )
        room = (
            tr("{total}, not mounted").format(total=size_words(facts.total))
            if not facts.mounted
            else room
            if facts.answers
            else tr("does not answer")
        )
        self.facts = label(
            "  ·  ".join(part for part in (kind, facts.file_system, room) if part), "small", wrap=True
        )
        self.bar = RoomBar(look)
        self.bar.show_room(facts.total, facts.free, wanted)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 7, 10, 8)
        column.setSpacing(4)
        head = line(self.radio, sign)
        head.setStretch(0, 1)
        column.addLayout(head)
        column.addWidget(self.facts)
        column.addWidget(self.bar)
        self.radio.setAccessibleName(f"{facts.name}, {self.facts.text()}, {sign.level.value}")
        self.radio.setEnabled(facts.mounted)
        self.setToolTip("\n".join(f"{check.what}. {check.way_out}".strip() for check in view.checks))
        self.radio.clicked.connect(lambda: self.chosen.emit(view.proposed))

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self.radio.click()


class PlaceChooser(QWidget):
    """The disks, the folder on the chosen one, and what speaks for and against it.

    ``changed`` says that another place was chosen or that its checks came in.
    """

    changed = Signal()

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._look, self._link = look, link
        self.folders: tuple[str, ...] = ()
        self.wanted: int | None = None
        self.used: tuple[str, ...] = ()
        self.examined: ExaminedView | None = None
        self.disks: list[DiskView] = []
        self._by_hand = False
        self._asked = 0
        self._measured: set[str] = set()
        self.rows: list[DiskRow] = []
        self._group = QButtonGroup(self)
        self._holder = QWidget()
        self._list = QVBoxLayout(self._holder)
        self._list.setContentsMargins(0, 0, 6, 0)
        self._list.setSpacing(6)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self._holder)
        scroll.setMinimumHeight(_LIST_HEIGHT)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._holder.setObjectName("clear")
        self.path = QLineEdit()
        self.path.setAccessibleName(tr("Folder of the store"))
        self.path.setPlaceholderText(tr("Folder, or sftp://user@server/folder"))
        browse = button(tr("Choose…"))
        browse.setToolTip(tr("Choose any folder by hand; a new one is made"))
        self.list = CheckList(look)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(scroll, 1)
        column.addWidget(self.path)
        self.server = button(tr("On a server…"))
        self.server.setToolTip(tr("Keep the store in a folder of a server, by its address and a login"))
        column.addLayout(line(browse, self.server, stretch=2))
        column.addWidget(self.list)
        self.tool = button(tr("Open the system's disk tool"))
        self.tool.hide()
        column.addWidget(self.tool, 0, Qt.AlignmentFlag.AlignLeft)
        self.tool.clicked.connect(self._open_tool)
        browse.clicked.connect(self._browse)
        self.server.clicked.connect(self.ask_server)
        self.path.editingFinished.connect(self._typed)

    @property
    def folder(self) -> str:
        """The folder chosen."""
        return self.path.text().strip()

    @property
    def disk(self) -> DiskView | None:
        """The disk the chosen folder is on, as far as it is one of those shown."""
        inside = [
            one
            for one in self.disks
            if one.facts.mounted
            and (self.folder == one.facts.path or self.folder.startswith(one.facts.path.rstrip("/") + "/"))
        ]
        return max(inside, key=lambda one: len(one.facts.path)) if inside else None

    def ask(self) -> None:
        """Look at the disks anew: at first, when one came or went, and when other folders are covered."""
        self._link.ask(LookAtDisks(self.folders, self.wanted, self.used), self._show_disks)

    def _show_disks(self, disks: list[DiskView]) -> None:
        self.disks = disks
        for row in self.rows:
            self._group.removeButton(row.radio)
            row.deleteLater()
        while self._list.count():
            self._list.takeAt(0)
        self.rows = [DiskRow(self._look, view, self.wanted) for view in disks]
        for row in self.rows:
            self._group.addButton(row.radio)
            self._list.addWidget(row)
            row.chosen.connect(self.choose)
        self._list.addStretch()
        current = self.disk
        if not self._by_hand and (current is None or not self.folder):
            best = next((view for view in disks if view.best), None)
            self.path.setText(best.proposed if best is not None else "")
            current = self.disk
        self._mark(current)
        self.examine()

    def choose(self, folder: str, by_hand: bool = False) -> None:
        """Choose a folder."""
        self._by_hand = by_hand
        self.path.setText(folder)
        if "://" in folder:
            self.path.setCursorPosition(0)
        current = self.disk
        self._mark(current)
        self.examine()

    def _mark(self, current: DiskView | None) -> None:
        """Mark the disk that is chosen; none where the folder is on none of them."""
        self._group.setExclusive(False)
        for row in self.rows:
            row.radio.setChecked(current is not None and row.view.facts.id == current.facts.id)
        self._group.setExclusive(True)

    def examine(self) -> None:
        """Have the chosen folder checked."""
        if not self.folder:
            self.examined = None
            self.list.show_checks(())
            self.changed.emit()
            return
        self._asked += 1
        number, folder = self._asked, self.folder
        call = ExamineFolder(folder, self.folders, self.wanted, folder in self._measured)
        self._link.ask(call, lambda view: self._show(number, view), lambda fault: self._failed(number, fault))

    def measure(self) -> None:
        """Have the speed of the chosen place measured, once: a few megabytes are written and removed
        again."""
        if self.folder and self.folder not in self._measured and self.level() is not Level.BAD:
            self._measured.add(self.folder)
            self.examine()

    def _show(self, number: int, view: ExaminedView) -> None:
        if number == self._asked:
            self.examined = view
            self.list.show_checks(view.checks)
            self.tool.setVisible(disk_tool() is not None and any(check.by_disk_tool for check in view.checks))
            self.path.setToolTip(view.folder)
            self.server.setText(tr("Log in…") if view.need is not ServerNeed.NOTHING else tr("On a server…"))
            self.changed.emit()
            self.measure()

    def _failed(self, number: int, fault: Fault) -> None:
        if number == self._asked:
            self.examined = None
            self.list.show_checks(())
            self.changed.emit()

    def _typed(self) -> None:
        if self.examined is None or self.examined.folder != self.folder:
            self.choose(self.folder, by_hand=True)

    def _browse(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, tr("Folder for the store"), self.folder or "/")
        if folder:
            self.choose(folder, by_hand=True)

    def ask_server(self) -> None:
        """Choose a folder on a server."""
        began = self.folder if "://" in self.folder else ""
        dialog = ServerDialog(self._look, self._link, began, self)
        dialog.accepted.connect(lambda: self.choose(dialog.address, by_hand=True))
        dialog.open()

    def _open_tool(self) -> None:
        tool = disk_tool()
        if tool is not None:
            QProcess.startDetached(tool, [])

    def level(self) -> Level:
        """How the chosen place came out; bad while it is not known."""
        return worst(list(self.examined.checks)) if self.examined is not None else Level.BAD

    def doubts(self) -> tuple[str, ...]:
        """What is doubtful about the chosen place, to be accepted knowingly."""
        checks = self.examined.checks if self.examined is not None else ()
        return tuple(check.what for check in checks if check.level is Level.DOUBTFUL)
