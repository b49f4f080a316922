"""How dense history stays with age: the ladder, chosen and looked at now and in years, before anything is
kept."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QComboBox, QLabel, QLineEdit, QSlider, QVBoxLayout, QWidget

from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import SnapshotId
from good_tide.core.ladder import READY, Ladder, parse_rung, words
from good_tide.core.outlook import brought, coming
from good_tide.core.tide import NO_TIDE, Tide
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words, size_words, time_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, card, label, line
from good_tide.desktop.rhythm.ladder_picture import LadderPicture
from good_tide.protocol.faults import Fault
from good_tide.protocol.schedule_calls import KeepLadder, RhythmView
from good_tide.protocol.store_calls import PlanRelease, ReleaseView

_MONTH = int(30.4375 * 86400) * SECOND
_READY_WORDS = {
    "everything": tr("Everything, for ever"),
    "usual": tr("The usual one"),
    "close": tr("A close one"),
    "long": tr("A long one"),
}
_ASK_AFTER_MS = 250


class LadderCard(QWidget):
    """The ladder of the job. Nothing is released here: a kept ladder is followed from the next run on."""

    kept = Signal()

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._link = link
        self._tide = NO_TIDE
        self._now = 0
        self.view: RhythmView | None = None
        self.picture = LadderPicture(look)
        self.ready, self.rungs = QComboBox(), QLineEdit()
        for name in _READY_WORDS:
            self.ready.addItem(_READY_WORDS[name], name)
        self.ready.addItem(tr("One of my own"), "")
        self.ready.setAccessibleName(tr("Ready ladders"))
        self.rungs.setAccessibleName(tr("Rungs of the ladder"))
        self.rungs.setPlaceholderText(tr("2d every; 30d day; 12mo week; forever quarter"))
        self.later = QSlider(Qt.Orientation.Horizontal)
        self.later.setRange(0, 60)
        self.later.setAccessibleName(tr("How far ahead to look, in months"))
        self.later.setFixedWidth(220)
        self.precious = QLineEdit()
        self.precious.setPlaceholderText(tr("Contracts/; *.fountain"))
        self.precious.setAccessibleName(tr("Files whose every version stays"))
        self.precious.setToolTip(
            tr(
                "Patterns as in the rules of coverage, with semicolons between: no version of such a file is"
                " ever released"
            )
        )
        self.when, self.words = label(tr("now"), "quiet"), label("", "", wrap=True)
        self.trouble: QLabel = label("", "harm", wrap=True)
        self.keep, self.discard = button(tr("Keep this ladder"), primary=True), button(tr("Discard"))
        frame, layout = card(margin=16, spacing=8)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(frame)
        head = line(label(tr("How dense history stays with age"), "strong"), spacing=10)
        head.addStretch()
        head.addWidget(self.ready)
        head.addWidget(self.discard)
        head.addWidget(self.keep)
        layout.addLayout(head)
        layout.addWidget(self.picture)
        below = line(label(tr("Rungs"), "quiet"), spacing=10)
        below.addWidget(self.rungs, 1)
        below.addWidget(label(tr("Looked at"), "quiet"))
        below.addWidget(self.later)
        below.addWidget(self.when)
        self.when.setFixedWidth(110)
        layout.addLayout(below)
        whose = line(label(tr("Every version stays of"), "quiet"), self.precious, spacing=10)
        whose.setStretch(1, 1)
        layout.addLayout(whose)
        layout.addWidget(self.words)
        layout.addWidget(self.trouble)
        layout.addWidget(
            label(
                tr("Solid below: kept. Hollow above: released. Squares: pinned. Drag the ends of the rungs."),
                "small",
            )
        )
        self.trouble.hide()
        self._asked: tuple[SnapshotId, ...] = ()
        self._timer = QTimer(self, interval=_ASK_AFTER_MS, singleShot=True)
        self._timer.timeout.connect(self._ask_room)
        self.picture.changed.connect(self._dragged)
        self.ready.activated.connect(self._chosen)
        self.rungs.textEdited.connect(lambda typed: self._typed())
        self.precious.textEdited.connect(lambda typed: self._show())
        self.later.valueChanged.connect(lambda months: self._show())
        self.keep.clicked.connect(self._keep)
        self.discard.clicked.connect(lambda: self.take(self.view) if self.view is not None else None)

    def show_tide(self, tide: Tide, now: int) -> None:
        """The job's snapshots. What a ladder makes of them is worked out only where it is seen."""
        self._tide, self._now = tide, now
        if self.view is not None and self.isVisible():
            self._show()

    def take(self, view: RhythmView) -> None:
        """Show the ladder that is kept."""
        self.view = view
        self.precious.setText("; ".join(view.precious))
        self._show_ladder(view.ladder)

    def _show_ladder(self, ladder: Ladder) -> None:
        self.picture.show_ladder(ladder)
        name = next((name for name, known in READY.items() if known == ladder), "")
        self.ready.setCurrentIndex(self.ready.findData(name))
        self.rungs.setText("; ".join(rung.text() for rung in ladder.rungs))
        self._tell("")
        self._show()

    def _tell(self, trouble: str) -> None:
        self.trouble.setText(trouble)
        self.trouble.setVisible(bool(trouble))

    def choose(self, name: str) -> None:
        """Look at one of the ready ladders."""
        self._show_ladder(READY[name])

    def _chosen(self, number: int) -> None:
        name = str(self.ready.itemData(number))
        if name:
            self.choose(name)
        else:
            self.rungs.setFocus()

    def _typed(self) -> None:
        try:
            ladder = Ladder(tuple(parse_rung(part) for part in self.rungs.text().split(";") if part.strip()))
            ladder.check()
        except PersonError as error:
            self._tell(str(error))
            self.keep.setEnabled(False)
            return
        self._tell("")
        self.picture.show_ladder(ladder)
        self.ready.setCurrentIndex(
            self.ready.findData(next((name for name, known in READY.items() if known == ladder), ""))
        )
        self._show()

    def _dragged(self) -> None:
        self.rungs.setText("; ".join(rung.text() for rung in self.picture.ladder.rungs))
        self.ready.setCurrentIndex(self.ready.findData(""))
        self._show()

    def _show(self) -> None:
        """What the ladder keeps and releases at the moment that is looked at."""
        assert self.view is not None
        months = self.later.value()
        self.when.setText(
            tr("now")
            if not months
            else (
                tr("in {months}").format(months=count_words(months, "month"))
                if months < 12 or months % 12
                else tr("in {months}").format(months=count_words(months // 12, "year"))
            )
        )
        moment = self._now + months * _MONTH
        times = self._tide.time
        names = self._tide.name
        pinned = frozenset(number for number, name in enumerate(names) if name in self.view.pinned)
        later = coming(times, moment) if months else []
        self.picture.show_history([*times, *later], pinned, moment, self.view.zone)
        self._asked = tuple(name for name, stay in zip(names, self.picture.stays, strict=False) if not stay)
        self.words.setText(self._said(months))
        if self._asked:
            self._timer.start()
        changed = self.picture.ladder != self.view.ladder or self._patterns() != self.view.precious
        waits = bool(self.view.ladder.rungs) and self.view.agreed != self.view.ladder
        self.keep.setText(tr("Keep this ladder") if changed or not waits else tr("Agree to this ladder"))
        self.keep.setEnabled(changed or waits)
        self.discard.setEnabled(changed)

    def _ask_room(self) -> None:
        """How much exactly the ladder gives back of what there is."""
        asked, months = self._asked, self.later.value()

        def told(view: ReleaseView) -> None:
            if (asked, months) == (self._asked, self.later.value()):
                self.words.setText(self._said(months, view.gives_back))

        if asked:
            self._link.ask(PlanRelease(self._link.job, asked), told, lambda fault: None)

    def _said(self, months: int, gives_back: int | None = None) -> str:
        """In words, what the picture shows; while it is not known what that gives back, at most what these
        snapshots brought."""
        stays, total = self.picture.stays, len(self.picture.stays)
        kept = sum(stays)
        said = tr("Keeps {kept} of {total}").format(kept=number_words(kept), total=number_words(total))
        there = len(self._tide)
        if self._asked:
            brings = zip(self._tide.stored, stays, strict=False)
            back = sum(stored for stored, stay in brings if not stay)
            said += (
                "; " + tr("gives back {gives_back}").format(gives_back=size_words(gives_back))
                if gives_back is not None
                else "; " + tr("gives back up to {back}").format(back=size_words(back))
            )
        if months:
            later = brought(self._tide, self.picture.times[there:], stays[there:].count(False))
            if self._asked:
                said += " " + tr("of what there is now")
            said += (
                tr("{words} up to {later} of what comes until then").format(
                    words=", " + tr("and") if self._asked else "; " + tr("gives back"),
                    later=size_words(later),
                )
                if later
                else ""
            )
        oldest = next((moment for moment, stay in zip(self.picture.times, stays, strict=True) if stay), 0)
        said += (
            ". " + tr("You can go back to {oldest}").format(oldest=time_words(oldest, self._now))
            if oldest
            else ""
        )
        return f"{said}: {words(self.picture.ladder)}."

    def _patterns(self) -> tuple[str, ...]:
        return tuple(part.strip() for part in self.precious.text().split(";") if part.strip())

    def _keep(self) -> None:
        def kept(result: object) -> None:
            self.kept.emit()

        def wrong(fault: Fault) -> None:
            self._tell(str(fault))

        call = KeepLadder(self._link.job, self.picture.ladder, True, self._patterns())
        self._link.ask(call, kept, wrong)
