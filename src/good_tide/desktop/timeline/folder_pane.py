"""What differs in a folder between the two marks, and bringing it back."""

from __future__ import annotations

import os

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHeaderView, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from good_tide.core.differences import Differing, What
from good_tide.core.restoring import Extent
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words, printable, size_words
from good_tide.desktop.painting.flow import Flow
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, label
from good_tide.protocol.history_calls import DifferencesView

_SIGNS = {
    What.GONE: ("gone", "coral"),
    What.NEW: ("new", "kelp"),
    What.CHANGED: ("changed", "ink"),
    What.MOVED: ("moved", "dusk"),
    What.METADATA: (tr("times or permissions"), "quiet_text"),
}
_PATH = Qt.ItemDataRole.UserRole
AS_FOLDER = tr(
    "All that was there at this moment, in the file manager: any program can read it, none can change it"
)


class FolderPane(QWidget):
    """Says what differs for a folder, as a tree that can be walked. ``bring``: a path is to be brought back,
    and how much of it (``Extent``). ``go``: a path is to be shown among the rows. ``gather``: the folder is
    to be put on the restore list."""

    bring = Signal(bytes, object)
    go = Signal(bytes)
    gather = Signal(bytes)
    archive = Signal(bytes)
    """A path is to be saved as an archive."""
    as_folder = Signal(bytes)
    """A path is to be shown in the file manager as it was."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look, self._path = look, b""
        self._view: DifferencesView | None = None
        self._counted = ""
        self.title, self.moments = label("", "title", wrap=True), label("", "quiet", wrap=True)
        self.counts = label("", "strong", wrap=True)
        self.tree = QTreeWidget()
        self.tree.setHeaderLabels([tr("What differs"), ""])
        self.tree.setAccessibleName(tr("What differs"))
        self.tree.setUniformRowHeights(True)
        self.tree.header().setStretchLastSection(False)
        self.tree.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.tree.header().setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        self.gone, self.changed = button(tr("Bring back what is gone")), button(tr("Bring back what changed"))
        self.exactly, self.one = button(tr("Make it all as it was…")), button(tr("Bring this back…"))
        self.list_it = button(tr("Add to restore list"))
        self.files = button(tr("Open as folder"))
        self.files.setToolTip(AS_FOLDER)
        self.save = button(tr("Save as archive…"))
        self.save.setToolTip(tr("All that was there at this moment, as one file to be handed out"))
        self.save.clicked.connect(lambda: self.archive.emit(self._path))
        self.exactly.setToolTip(tr("What was not there then is set aside, and nothing is deleted"))
        self.one.setToolTip(
            tr("The chosen thing as it was, or without one the whole; to where it was or elsewhere")
        )
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 14, 14, 14)
        layout.setSpacing(6)
        for words in (self.title, self.moments, self.counts):
            layout.addWidget(words)
        layout.addWidget(self.tree, 1)
        layout.addWidget(Flow(self.one, self.list_it, self.files, self.save))
        for act in (self.gone, self.changed, self.exactly):
            layout.addWidget(act)
        self.gone.clicked.connect(lambda: self.bring.emit(self._path, Extent.MISSING))
        self.changed.clicked.connect(lambda: self.bring.emit(self._path, Extent.CHANGED))
        self.exactly.clicked.connect(lambda: self.bring.emit(self._path, Extent.EXACTLY))
        self.one.clicked.connect(self._bring_one)
        self.files.clicked.connect(lambda: self.as_folder.emit(self._path))
        self.list_it.clicked.connect(lambda: self.gather.emit(self._path))
        self.tree.itemActivated.connect(lambda item, column: self._go(item))
        self.tree.currentItemChanged.connect(lambda now, before: self._show_one())

    def ask(self, path: bytes, title: str, moments: str) -> None:
        """Something else is to be compared: it is on its way."""
        self._path, self._view = path, None
        self.title.setText(title)
        self.title.setToolTip(printable(path))
        self.moments.setText(moments)
        self.counts.setText(tr("Comparing…"))
        self.tree.clear()
        for one in (self.gone, self.changed, self.exactly, self.one):
            one.setEnabled(False)
        self.list_it.setEnabled(bool(path))

    def say(self, words: str) -> None:
        """Say something in place of the counts; nothing any more for no words."""
        self.counts.setText(words or self._counted)

    def fail(self, words: str) -> None:
        """It could not be compared."""
        self._view = None
        self.counts.setText(words)

    def show_differences(self, view: DifferencesView, now: bool) -> None:
        """What differs. :param now: the second mark is what is on the disk now: it can be brought back."""
        if view == self._view:
            return  # and what is opened and chosen in it stays
        self._view = view
        counts = view.counts
        parts = [
            f"{counts[what].files:,} {_SIGNS[what][0]} ({size_words(counts[what].bytes)})"
            if counts[what].bytes
            else f"{counts[what].files:,} {_SIGNS[what][0]}"
            for what in What
            if counts[what].files
        ]
        words = ", ".join(parts) or tr("Nothing differs")
        unclear = len(view.differences.unclear)
        self._counted = f"{words}." + (
            " " + tr("{unclear} could not be compared.").format(unclear=number_words(unclear))
            if unclear
            else ""
        )
        self.counts.setText(self._counted)
        self._fill(view)
        gone, changed = counts[What.GONE].files + counts[What.MOVED].files, counts[What.CHANGED].files
        for one, count, what in (
            (self.gone, gone, tr("what is gone")),
            (self.changed, changed, tr("what changed")),
        ):
            one.setText(
                tr("Bring back {what}").format(what=what) + (f" ({count:,})" if count and now else "")
            )
            one.setEnabled(bool(count) and now)
        self.exactly.setEnabled(now and bool(view.differences.items))
        for act in (self.gone, self.changed, self.exactly):
            act.setVisible(now)

    def _fill(self, view: DifferencesView) -> None:
        self.tree.clear()
        base = self._path or os.path.dirname(_common([one.path for one in view.differences.items]))
        nodes: dict[bytes, QTreeWidgetItem] = {}
        for one in view.differences.items:
            self._node(one.path, base, nodes, one)
        for item in nodes.values():
            if not item.text(1) and item.childCount():
                item.setText(1, f"{_leaves(item):,}")
                item.setForeground(1, self._look.color("quiet_text"))
        if view.more:
            self.tree.addTopLevelItem(
                QTreeWidgetItem([tr("and {more}").format(more=count_words(view.more, "more item")), ""])
            )
        if len(view.differences.items) <= 40:
            self.tree.expandAll()
        self._show_one()

    def _node(self, path: bytes, base: bytes, nodes: dict[bytes, QTreeWidgetItem], one: Differing) -> None:
        """Show what differs in an item of the tree, made with those above it."""
        below: QTreeWidgetItem | None = None
        at = path
        while True:
            known = nodes.get(at)
            fresh = known is None
            if known is None:
                known = nodes[at] = QTreeWidgetItem([printable(os.path.basename(at) or at), ""])
                known.setData(0, _PATH, at)
                known.setToolTip(0, printable(at))
            if below is not None:
                known.addChild(below)
            if not fresh:
                break
            above = os.path.dirname(at)
            if at == base or above == base or len(above) <= len(base):
                self.tree.addTopLevelItem(known)
                break
            below, at = known, above
        item = nodes[path]
        words, color = _SIGNS[one.what]
        item.setText(1, words)
        item.setForeground(1, self._look.color(color))
        sizes = (
            tr("{before} then, {after} now").format(
                before=size_words(one.before), after=size_words(one.after)
            )
            if one.kind == "f"
            else ""
        )
        moved = "\n" + tr("It was {other}").format(other=printable(one.other)) if one.other else ""
        item.setToolTip(1, f"{words}{f': {sizes}' if sizes else ''}{moved}")
        item.setData(1, _PATH, one.other or (None if one.what is What.NEW else one.path))

    def _show_one(self) -> None:
        item = self.tree.currentItem()
        self.one.setText(tr("Bring all back…") if item is None else tr("Bring this back…"))
        self.one.setEnabled(item is None or item.data(1, _PATH) is not None)

    def _bring_one(self) -> None:
        item = self.tree.currentItem()
        if item is None:
            self.bring.emit(self._path, Extent.ALL)
        elif item.data(1, _PATH) is not None:
            self.bring.emit(bytes(item.data(1, _PATH)), Extent.ALL)

    def _go(self, item: QTreeWidgetItem) -> None:
        path = item.data(0, _PATH)
        if path is not None:
            self.go.emit(bytes(path))


def _leaves(item: QTreeWidgetItem) -> int:
    """How many things that differ are below a folder's item."""
    count, waiting = 0, [item]
    while waiting:
        one = waiting.pop()
        below = [child for child in (one.child(at) for at in range(one.childCount())) if child is not None]
        count += not below
        waiting += below
    return count


def _common(paths: list[bytes]) -> bytes:
    """The folder that all paths are in, with a name behind it to be cut."""
    if not paths:
        return b""
    return os.path.commonpath(paths) + (b"/x" if len(paths) > 1 else b"")
