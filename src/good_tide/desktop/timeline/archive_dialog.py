"""Saving what was as an archive: where, of which kind, with sums or not."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from PySide6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QDialog,
    QFileDialog,
    QLineEdit,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.translation import tr
from good_tide.core.words import count_words, local, printable, time_words
from good_tide.desktop.painting.widgets import button, label, line
from good_tide.protocol.restore_calls import PickedItem

_KINDS = (
    (".zip", tr("ZIP: opens everywhere")),
    (".tar.zst", tr("tar, Zstandard: small and quick")),
    (".tar.gz", tr("tar, gzip: for older programs")),
    (".tar", tr("tar: not compressed")),
)
_NO_NAME = "/\0\n"


class ArchiveDialog(QDialog):
    """Asks where some things are to be saved. Accepted: save them as ``target``, with ``sums`` or not."""

    def __init__(self, items: Sequence[PickedItem], now: int, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Save as archive"))
        self.setMinimumWidth(560)
        first = items[0]
        name = printable(os.path.basename(first.path))
        what = name if len(items) == 1 else count_words(len(items), "item")
        moments = {item.time for item in items}
        words = (
            tr("{what}, as it was {moment}.").format(what=what, moment=time_words(first.time, now))
            if len(moments) == 1
            else tr("{what}, from {moments}.").format(what=what, moments=count_words(len(moments), "moment"))
        )
        self._stem = "".join("-" if sign in _NO_NAME else sign for sign in name) or "history"
        if len(moments) == 1:
            self._stem += f" {local(first.time):%Y-%m-%d %H.%M}"
        self._kinds = QButtonGroup(self)
        self.path = QLineEdit()
        self.path.setAccessibleName(tr("File to save it as"))
        choose = button(tr("Choose…"))
        self.check = QCheckBox(tr("With a list of SHA-256 sums beside it"))
        self.check.setToolTip(tr("“sha256sum -c” checks what was unpacked by it"))
        self.trouble = label("", "harm", wrap=True)
        self.save, cancel = button(tr("Save"), primary=True), button(tr("Cancel"))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(22, 20, 22, 18)
        layout.setSpacing(10)
        layout.addWidget(label(tr("Save as archive"), "title"))
        layout.addWidget(label(words, "quiet", wrap=True))
        for number, (_, meaning) in enumerate(_KINDS):
            one = QRadioButton(meaning)
            one.setChecked(not number)
            self._kinds.addButton(one, number)
            layout.addWidget(one)
        layout.addWidget(
            label(
                tr(
                    "ZIP keeps names, contents, permissions, and times to the second; tar keeps owners,"
                    " attributes and links among files as well."
                ),
                "quiet",
                wrap=True,
            )
        )
        row = line(label(tr("As"), "small"))
        row.addWidget(self.path, 1)
        row.addWidget(choose)
        layout.addLayout(row)
        layout.addWidget(self.check)
        layout.addWidget(self.trouble)
        layout.addLayout(line(cancel, self.save, stretch=0))
        self._kinds.idClicked.connect(self._other_kind)
        self.path.textChanged.connect(self._look)
        choose.clicked.connect(self._choose)
        cancel.clicked.connect(self.reject)
        self.save.clicked.connect(self.accept)
        self.path.setText(str(_free(Path.home() / (self._stem + self.ending))))

    @property
    def ending(self) -> str:
        """The ending of the kind that is chosen."""
        return _KINDS[self._kinds.checkedId()][0]

    @property
    def target(self) -> str:
        """The file, whole."""
        return os.path.abspath(os.path.expanduser(self.path.text().strip()))

    @property
    def sums(self) -> bool:
        """Whether sums are wanted."""
        return self.check.isChecked()

    def _other_kind(self, number: int) -> None:
        text = self.path.text()
        known = next((one for one, _ in _KINDS if text.endswith(one)), "")
        self.path.setText(str(_free(Path(text.removesuffix(known) + _KINDS[number][0]))))

    def _choose(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, tr("Save as archive"), self.target, f"*{self.ending}")
        if name:
            self.path.setText(name if name.endswith(self.ending) else name + self.ending)

    def _look(self) -> None:
        """What speaks against the file that is named."""
        folder = os.path.dirname(self.target)
        said = ""
        if not self.path.text().strip().endswith(self.ending):
            said = tr("The name has to end with {ending}.").format(ending=self.ending)
        elif os.path.lexists(self.target):
            said = tr("There is such a file already. Nothing is written over: choose another name.")
        elif not os.path.isdir(folder):
            said = tr("There is no folder {folder}.").format(folder=folder)
        self.trouble.setText(said)
        self.trouble.setVisible(bool(said))
        self.save.setEnabled(not said)


def _free(path: Path) -> Path:
    """A name that is not taken, as near to a wanted one as possible."""
    ending = next((one for one, _ in _KINDS if path.name.endswith(one)), "")
    stem, number = path.name.removesuffix(ending), 1
    while os.path.lexists(path):
        number += 1
        path = path.with_name(f"{stem} {number}{ending}")
    return path
