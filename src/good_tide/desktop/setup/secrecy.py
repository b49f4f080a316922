"""Who may read a store: a passphrase typed twice, how strong it is, a hint; or nobody asked."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QTimer, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QCheckBox, QLineEdit, QRadioButton, QVBoxLayout, QWidget

from good_tide.core.passphrases import Strength, gives_away, judge, proposal_bits, propose
from good_tide.core.translation import tr
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, label, line

_JUDGE_AFTER_MS = 150


class StrengthBar(QWidget):
    """Four fields, as many of them filled as the passphrase is strong."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look, self.score = look, 0
        self.setFixedHeight(8)

    def show_score(self, score: int) -> None:
        """Fill so many fields."""
        self.score = score
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        wide = (self.width() - 12) / 4
        color = self._look.color("coral" if self.score < 2 else "sand" if self.score < 3 else "kelp")
        for number in range(4):
            painter.fillRect(
                QRectF(number * (wide + 4), 0, wide, 8),
                color if number < self.score else self._look.color("line"),
            )


class SecrecyPanel(QWidget):
    """Asks who may read a new store; or for the passphrase of one that is there. ``changed`` after every
    change."""

    changed = Signal()

    def __init__(self, look: Palette, key_ring: bool = True) -> None:
        super().__init__()
        self._holds = False
        self.known: tuple[str, ...] = ()
        self.sealed = QRadioButton(tr("Only who knows a passphrase"))
        self.open = QRadioButton(tr("Anybody who has the disk"))
        self.sealed.setChecked(True)
        self.passphrase, self.again, self.hint = QLineEdit(), QLineEdit(), QLineEdit()
        for field, words in (
            (self.passphrase, tr("Passphrase")),
            (self.again, tr("The same again")),
            (self.hint, tr("Hint (everybody can read it)")),
        ):
            field.setPlaceholderText(words)
            field.setAccessibleName(words)
            field.textChanged.connect(self._soon)
        for secret in (self.passphrase, self.again):
            secret.setEchoMode(QLineEdit.EchoMode.Password)
        self.show_it = QCheckBox(tr("Show"))
        self.propose = button(tr("Propose one"))
        self.propose.setToolTip(
            tr("Six random words, about {proposal_bits:.0f} bits; write them down").format(
                proposal_bits=proposal_bits()
            )
        )
        self.bar = StrengthBar(look)
        self.words = label("", "small", wrap=True)
        self.remember = QCheckBox()
        self.sentence = label("", "small", wrap=True)
        self._fields = QWidget()
        fields = QVBoxLayout(self._fields)
        fields.setContentsMargins(0, 0, 0, 0)
        fields.setSpacing(7)
        for widget in (self.passphrase, self.again):
            fields.addWidget(widget)
        fields.addLayout(line(self.propose, self.show_it, stretch=1))
        below: tuple[QWidget, ...] = (self.bar, self.words, self.hint, self.remember)
        for part in below:
            fields.addWidget(part)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(7)
        whole: tuple[QWidget, ...] = (self.sealed, self.open, self._fields, self.sentence)
        for part in whole:
            column.addWidget(part)
        column.addStretch()
        self._timer = QTimer(self, singleShot=True, interval=_JUDGE_AFTER_MS)
        self._timer.timeout.connect(self._judge)
        self.sealed.toggled.connect(lambda on: self._show())
        self.show_it.toggled.connect(self._reveal)
        self.propose.clicked.connect(self.take_proposal)
        self.strength = Strength(0, "")
        self.set_key_ring(key_ring)
        self._show()

    def set_key_ring(self, there: bool) -> None:
        """Whether the session has a key ring."""
        self.remember.setEnabled(there)
        self.remember.setText(
            tr("Remember it in the key ring") if there else tr("No key ring in this session")
        )

    def holds(self, store: bool, hint: str | None) -> None:
        """The place holds a store already: then its passphrase is asked for, once. ``hint`` None: it needs
        none."""
        self._holds = store
        for widget in (self.sealed, self.open):
            widget.setVisible(not store)
        of_new: tuple[QWidget, ...] = (self.again, self.propose, self.bar, self.words, self.hint)
        for part in of_new:
            part.setVisible(not store)
        self._fields.setVisible(hint is not None if store else self.sealed.isChecked())
        if store:
            self.sentence.setText(
                tr("The store there is not encrypted: whoever has the disk can read it.")
                if hint is None
                else tr("The passphrase of the store there. Hint: {hint}.").format(hint=hint or "none")
            )
        else:
            self._show()

    def _soon(self) -> None:
        self._timer.start()
        self.changed.emit()

    def _reveal(self, on: bool) -> None:
        for field in (self.passphrase, self.again):
            field.setEchoMode(QLineEdit.EchoMode.Normal if on else QLineEdit.EchoMode.Password)

    def take_proposal(self) -> None:
        """Fill in a proposed passphrase, shown so that it can be written down."""
        words = propose()
        self.show_it.setChecked(True)
        self.passphrase.setText(words)
        self.again.setText(words)

    def _judge(self) -> None:
        self.strength = judge(self.passphrase.text(), (*self.known, self.hint.text()))
        self.bar.show_score(self.strength.score)
        self.words.setText(
            f"{self.strength.words}. {self.strength.advice}".strip(". ") + "."
            if self.passphrase.text()
            else ""
        )
        self.changed.emit()

    def _show(self) -> None:
        sealed = self.sealed.isChecked()
        self._fields.setVisible(sealed)
        self.sentence.setText(
            tr(
                "Without the passphrase or the recovery key nothing shows: no names, no contents. You get the"
                " recovery key in the next step."
            )
            if sealed
            else (
                tr(
                    "Not encrypted: whoever finds, borrows or steals the disk can read every file in every"
                    " snapshot."
                )
            )
        )
        self.changed.emit()

    def missing(self) -> str:
        """What is still to be done here, in words; empty when all is well."""
        if self._holds:
            return (
                ""
                if self._fields.isHidden() or self.passphrase.text()
                else tr("Type the passphrase of the store that is there.")
            )
        if not self.sealed.isChecked():
            return ""
        if not self.passphrase.text():
            return tr("Type a passphrase, or have one proposed.")
        if self.passphrase.text() != self.again.text():
            return (
                tr("The two passphrases differ.") if self.again.text() else tr("Type the passphrase again.")
            )
        if gives_away(self.hint.text(), self.passphrase.text()):
            return tr("The hint contains the passphrase.")
        return ""

    def value(self) -> str | None:
        """The passphrase, None for a store without."""
        if self._holds:
            return None if self._fields.isHidden() else self.passphrase.text()
        return self.passphrase.text() if self.sealed.isChecked() else None
