"""Handing out what was: dragged into other programs, copied to be pasted there, saved as an archive."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QMimeData, QObject, Qt, QUrl, Signal
from PySide6.QtGui import QDrag, QGuiApplication
from PySide6.QtWidgets import QApplication, QWidget

from good_tide.core.translation import tr
from good_tide.core.words import size_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.icons import program_icon
from good_tide.desktop.timeline.archive_dialog import ArchiveDialog
from good_tide.protocol.faults import Fault
from good_tide.protocol.handing_calls import CopiesView, MakeCopies, SaveArchive
from good_tide.protocol.restore_calls import PickedItem

_COPIED = "x-special/gnome-copied-files"
"""By this several file managers tell copying from moving."""
_ICON = 32


class Handing(QObject):
    """Has copies made, and gives them to other programs. Small things are copied as a drag begins, because
    many programs ask at once; large ones are made as work first, and dragged again when they are there.

    ``told``: a notice: words, detail, whether it is trouble.
    """

    told = Signal(str, str, bool)

    def __init__(self, link: AgentLink, window: QWidget) -> None:
        super().__init__(window)
        self._link, self._window = link, window
        application = QApplication.instance()
        if application is not None:
            application.aboutToQuit.connect(self._leave_clipboard)
        self.dialog: ArchiveDialog | None = None

    def drag(self, items: Sequence[PickedItem]) -> None:
        """Things are being dragged."""

        def ready(view: CopiesView) -> None:
            if self._are_there(view, tr("Drag it again when it is done.")):
                self._drag(view.paths)

        self._ask(items, ready)

    def _drag(self, paths: Sequence[str]) -> None:
        if not QGuiApplication.mouseButtons() & Qt.MouseButton.LeftButton:
            self.told.emit(tr("It is ready now: drag it again"), "", False)
            return
        drag = QDrag(self._window)
        drag.setMimeData(mime_data(paths))
        drag.setPixmap(program_icon().pixmap(_ICON))
        drag.exec(Qt.DropAction.CopyAction)

    def copy(self, items: Sequence[PickedItem]) -> None:
        """Things are to be pasted elsewhere."""

        def ready(view: CopiesView) -> None:
            if self._are_there(view, tr("Copy it again when it is done.")):
                QApplication.clipboard().setMimeData(mime_data(view.paths))
                words = tr("Copied, as it was then: paste it in a file manager, a mail, a document")
                self.told.emit(words, "\n".join(view.problems[:3]), bool(view.problems))

        self._ask(items, ready)

    @staticmethod
    def _leave_clipboard() -> None:
        """What is on the clipboard goes before Python does: Qt would ask it for its data afterwards."""
        clipboard = QApplication.clipboard()
        if clipboard.ownsClipboard() and clipboard.mimeData().hasFormat(_COPIED):
            clipboard.clear()

    def _ask(self, items: Sequence[PickedItem], ready: Callable[[CopiesView], None]) -> None:
        def failed(fault: Fault) -> None:
            self.told.emit(str(fault), "", True)

        if items:
            self._link.ask(MakeCopies(self._link.job, tuple(items)), ready, failed)

    def _are_there(self, view: CopiesView, again: str) -> bool:
        """Whether there are copies; otherwise it is said that they are being made."""
        if view.coming:
            self.told.emit(
                tr("{size} are being copied out of the store first").format(size=size_words(view.size)),
                again,
                False,
            )
        elif not view.paths:
            self.told.emit(tr("Nothing of it could be copied"), "\n".join(view.problems[:3]), True)
        return bool(view.paths)

    def save(self, items: Sequence[PickedItem], now: int) -> None:
        """Things are to be saved as an archive."""
        if not items:
            return
        self.dialog = dialog = ArchiveDialog(items, now, self._window)
        job, chosen = self._link.job, tuple(items)

        def save() -> None:
            wanted = SaveArchive(job, chosen, dialog.target, dialog.sums)
            self._link.ask(wanted, None, lambda fault: self.told.emit(str(fault), "", True))

        dialog.accepted.connect(save)
        dialog.open()


def mime_data(paths: Sequence[str]) -> QMimeData:
    """Files as other programs take them when they are dropped or pasted: as addresses, and as text."""
    urls = [QUrl.fromLocalFile(path) for path in paths]
    data = QMimeData()
    data.setUrls(urls)
    data.setText("\n".join(paths))
    listed = [b"copy", *(url.toEncoded().data() for url in urls)]
    data.setData(_COPIED, b"\n".join(listed))
    return data


def dropped_path(data: QMimeData) -> bytes:
    """The first file of this machine that is dropped; empty where there is none."""
    for url in data.urls():
        if url.isLocalFile():
            return url.toLocalFile().encode("utf-8", "surrogateescape")
    return b""
