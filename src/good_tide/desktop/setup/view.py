"""The set-up: what, where, and who may read it, side by side on one page, each answered already."""

from __future__ import annotations

import os
import tomllib

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.jobfile import expand_folder
from good_tide.core.places import Level
from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.flow import Columns
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, card, label, line
from good_tide.desktop.setup.consequences import room_words
from good_tide.desktop.setup.disk_rows import PlaceChooser
from good_tide.desktop.setup.secrecy import SecrecyPanel
from good_tide.protocol.agent_calls import DisksChanged
from good_tide.protocol.coverage_calls import NO_JOB, SurveyFolders, SurveyView
from good_tide.protocol.faults import Fault
from good_tide.protocol.setup_calls import (
    MadeView,
    NewStore,
    OpenToRead,
    ProposeSetUp,
    PutIntoMenus,
    SetUpJob,
    SetUpView,
)

_NARROWEST_CARD = 270
_SURVEY_AFTER_MS = 120
_FOUND_SHOWN = 4


class SetUpPage(QWidget):
    """One page from an empty machine to the first snapshot.

    ``made`` carries what was made, after which the first snapshot is to be taken.
    """

    made = Signal(object)
    opened = Signal(object)
    """A store that is there is looked into, to bring back from it: the job that it is looked into as."""

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._look, self._link = look, link
        self._view: SetUpView | None = None
        self._found_words: list[str] = []
        self._rules: tuple[str, ...] = ()
        self.survey: SurveyView | None = None
        self._number = link.number()
        self.folders = QListWidget()
        self.folders.setAccessibleName(tr("Folders to cover"))
        self.points = QComboBox()
        self.points.setAccessibleName(tr("Starting point"))
        self._what, self._where, self._who = (
            label("", "strong", wrap=True),
            label("", "strong", wrap=True),
            label("", "strong", wrap=True),
        )
        self._rules_words = label("", "small", wrap=True)
        self.place = PlaceChooser(look, link)
        self.secrecy = SecrecyPanel(look)
        self._summary, self._trouble = label("", "", wrap=True), label("", "harm", wrap=True)
        self.begin = button(tr("Take the first snapshot"), primary=True)
        self.back = button(tr("Bring back from this store…"))
        self.back.setToolTip(
            tr("Look into the store that is there, of whatever machine, and restore from it")
        )
        self.menus = QCheckBox()
        self.menus.hide()
        self._lost = label("", "strong", wrap=True)
        self.found = QHBoxLayout()
        """A button for each store that lies on a connected disk."""
        self._timer = QTimer(self, singleShot=True, interval=_SURVEY_AFTER_MS)
        link.hear(SurveyView, self.take_survey)
        link.hear(DisksChanged, self._disks_changed)
        self._lay_out()
        self._timer.timeout.connect(self._ask_survey)
        self.folders.itemChanged.connect(lambda item: self._folders_changed())
        self.points.activated.connect(self._start_from)
        self.place.changed.connect(self._place_changed)
        self.secrecy.changed.connect(self._show)
        self.begin.clicked.connect(self._begin)
        self.back.clicked.connect(self._bring_back)

    def _lay_out(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 16, 24, 16)
        column.setSpacing(12)
        column.addWidget(label(tr("Protect this machine"), "title"))
        column.addWidget(
            label(
                tr(
                    "Three questions, each with an answer to start from. Everything can be changed later, in"
                    " Coverage and in Stores."
                ),
                "quiet",
                wrap=True,
            )
        )
        column.addWidget(self._lost)
        column.addLayout(self.found)
        cards = Columns(_NARROWEST_CARD)
        for title, consequence, widgets in (
            (tr("What is kept"), self._what, self._what_widgets()),
            (tr("Where it is kept"), self._where, [self.place]),
            (tr("Who may read it"), self._who, [self.secrecy]),
        ):
            frame, inside = card(spacing=9)
            frame.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
            inside.addWidget(label(title, "title"))
            for widget in widgets:
                inside.addWidget(widget, 1 if widget in (self.folders, self.place, self.secrecy) else 0)
            inside.addWidget(consequence)
            cards.add(frame)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(cards)
        column.addWidget(scroll, 1)
        frame, inside = card(margin=12, spacing=4)
        row = QHBoxLayout()
        words = QVBoxLayout()
        words.addWidget(self._summary)
        words.addWidget(self._trouble)
        words.addWidget(self.menus)
        row.addLayout(words, 1)
        row.addWidget(self.back)
        row.addWidget(self.begin)
        inside.addLayout(row)
        column.addWidget(frame)

    def _what_widgets(self) -> list[QWidget]:
        add = button(tr("Add…"))
        add.setToolTip(tr("Cover a folder that is not in the list"))
        add.clicked.connect(self._add_folder)
        row = QWidget()
        inside = line(label(tr("Start from"), "small"))
        inside.addWidget(self.points, 1)
        inside.addWidget(add)
        row.setLayout(inside)
        return [row, self.folders, self._rules_words]

    def start(self) -> None:
        """Ask for the proposal and show it."""
        if self._view is None:
            self._link.ask(ProposeSetUp(), self._propose)

    def _propose(self, view: SetUpView) -> None:
        self._view, self._rules = view, view.rules
        self.secrecy.set_key_ring(view.key_ring)
        self.secrecy.known = (view.machine, os.path.basename(view.home))
        self.menus.setText(
            tr("Show earlier versions in the menus of {managers} as well").format(
                managers=", ".join(view.managers)
            )
        )
        self.menus.setVisible(bool(view.managers))
        self.menus.setChecked(bool(view.managers))
        self.points.clear()
        for name, _ in view.starting_points:
            self.points.addItem(tr(name))
        self.points.setCurrentText(tr("Office"))
        self._fill_folders(view.proposed)
        self._ask_survey()
        self.place.ask()

    def _fill_folders(self, chosen: tuple[str, ...]) -> None:
        assert self._view is not None
        self.folders.blockSignals(True)
        self.folders.clear()
        for folder in dict.fromkeys([*chosen, *self._view.usual.values(), self._view.home]):
            self._add_row(folder, folder in chosen)
        self.folders.blockSignals(False)

    def _add_row(self, folder: str, on: bool) -> None:
        home = self._view.home if self._view is not None else ""
        shown = tr("Home folder") if folder == home else folder.removeprefix(home + "/")
        item = QListWidgetItem(shown)
        item.setData(Qt.ItemDataRole.UserRole, folder)
        item.setToolTip(folder)
        item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
        item.setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)
        self.folders.addItem(item)

    def _items(self) -> list[QListWidgetItem]:
        return [self.folders.item(row) for row in range(self.folders.count())]

    def chosen(self) -> tuple[str, ...]:
        """The folders to be covered."""
        return tuple(
            str(item.data(Qt.ItemDataRole.UserRole))
            for item in self._items()
            if item.checkState() is Qt.CheckState.Checked
        )

    def _add_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(
            self, tr("Folder to cover"), self._view.home if self._view is not None else "/"
        )
        if folder:
            self.cover(folder)

    def cover(self, folder: str) -> None:
        """Add a folder to those covered."""
        known = next((item for item in self._items() if item.data(Qt.ItemDataRole.UserRole) == folder), None)
        if known is not None:
            known.setCheckState(Qt.CheckState.Checked)
        else:
            self._add_row(folder, True)
        self._folders_changed()

    def _folders_changed(self) -> None:
        self._number = self._link.number()  # what is still told of those before says nothing of these
        self._timer.start()

    def _start_from(self, number: int) -> None:
        """Take folders and rules from a starting point; those that mean nothing on this machine are passed
        over."""
        assert self._view is not None
        values = tomllib.loads(self._view.starting_points[number][1])
        known = self._view.usual
        folders = []
        for text in values["folders"]:
            name = text.removeprefix("$").partition("/")[0]
            if not text.startswith("$") or name == "HOME" or name in known:
                folders.append(expand_folder(text, self._view.home, known))
        self._rules = tuple(values.get("rules", ()))
        self._fill_folders(tuple(folders) or self._view.proposed)
        self._ask_survey()

    def _ask_survey(self) -> None:
        self._number = self._link.number()
        self.survey = None
        folders = self.chosen()
        self.place.folders = folders
        self._link.ask(SurveyFolders(NO_JOB, self._number, folders, tuple(self._rules)))
        self._show()

    def take_survey(self, view: SurveyView) -> None:
        """The agent told how far it has looked."""
        if view.number != self._number or not self.isVisible():
            return
        self.survey = view
        sizes = {share.path: share for share in view.folders}
        for item in self._items():
            folder = str(item.data(Qt.ItemDataRole.UserRole))
            share = sizes.get(os.fsencode(folder))
            home = self._view.home if self._view is not None else ""
            shown = tr("Home folder") if folder == home else folder.removeprefix(home + "/")
            on = item.checkState() is Qt.CheckState.Checked
            words = (
                f"{shown}   {count_words(share.files, 'file')}, {size_words(share.size)}"
                if share is not None and on
                else shown
            )
            if item.text() != words:
                self.folders.blockSignals(True)
                item.setText(words)
                self.folders.blockSignals(False)
        if view.done:
            self.place.wanted = view.size
            self.place.ask()
        self._show()

    def _disks_changed(self, note: DisksChanged) -> None:
        if self.isVisible():
            self.place.ask()

    def _place_changed(self) -> None:
        found = self.place.examined
        self.secrecy.holds(
            found is not None and found.holds is not None, None if found is None else found.hint
        )
        self._show()

    def _show(self) -> None:
        """The consequences of all three answers, and what is still missing."""
        survey, folders = self.survey, self.chosen()
        if not folders:
            self._what.setText(tr("Nothing is covered."))
        elif survey is None:
            self._what.setText(tr("Looking…"))
        else:
            self._what.setText(
                "{files}, {size}{words}".format(
                    files=count_words(survey.files, "file"),
                    size=size_words(survey.size),
                    words="" if survey.done else " " + tr("so far…"),
                )
            )
        rules = count_words(len(self._rules), "rule")
        if survey is not None and survey.out_files:
            self._rules_words.setText(
                tr("{rules} leave out {out_files}, {out_size}. Coverage shows which.").format(
                    rules=rules,
                    out_files=count_words(survey.out_files, "file"),
                    out_size=size_words(survey.out_size),
                )
            )
        else:
            self._rules_words.setText(
                f"{rules}: {'; '.join(self._rules)}"
                if self._rules
                else tr("No rules: everything in these folders is in.")
            )
        self._where.setText(room_words(self.place, self.survey))
        sealed = self.secrecy.value() is not None
        self._who.setText(tr("Encrypted.") if sealed else tr("Not encrypted."))
        missing = self._missing()
        self._trouble.setText(missing)
        self._trouble.setVisible(bool(missing))
        self._summary.setText(self._summary_words())
        self.begin.setEnabled(not missing)
        self._show_way_back()

    def _show_way_back(self) -> None:
        """Whether something can be brought back from the place that is chosen."""
        found = self.place.examined
        holds = found is not None and found.holds is not None
        self._lost.setText(
            tr(
                "A store lies in the place that is chosen. Give its passphrase or recovery key, and bring"
                " back from it; or go on with it on this machine."
            )
            if holds
            else (
                tr(
                    "Was a machine lost? Connect the disk with its store, or choose its folder under “Where"
                    " it is kept”."
                )
            )
        )
        self._show_found()
        self.back.setEnabled(holds and not self.secrecy.missing())

    def _show_found(self) -> None:
        """Stores that lie on the connected disks, each a press away."""
        stores = [(row.view.facts.name, one) for row in self.place.rows for one in row.view.facts.stores]
        words = [
            tr("{basename} on {disk}, {snapshots}").format(
                basename=os.path.basename(one.path),
                disk=disk,
                snapshots=count_words(one.snapshots, "snapshot"),
            )
            for disk, one in stores[:_FOUND_SHOWN]
        ]
        if words == self._found_words:
            return
        self._found_words = words
        while self.found.count():
            item = self.found.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        for text, (_, one) in zip(words, stores, strict=False):
            made = button(text)
            made.setToolTip(one.path)
            made.clicked.connect(lambda checked=False, path=one.path: self.place.choose(path, by_hand=True))
            self.found.addWidget(made)
        self.found.addStretch()

    def _bring_back(self) -> None:
        self.back.setEnabled(False)
        call = OpenToRead(self.place.folder, self.secrecy.value())
        self._link.ask(call, self.opened.emit, self._refused_to_look)

    def look_again(self) -> None:
        """Somebody who opened a store came back without bringing anything back."""
        self.back.setEnabled(True)

    def _refused_to_look(self, fault: Fault) -> None:
        self._trouble.setText(str(fault))
        self._trouble.show()
        self.back.setEnabled(True)

    def _summary_words(self) -> str:
        doubts = self.place.doubts()
        if doubts and not self._missing():
            return tr("You go on although: {doubts}. This is noted in the journal.").format(
                doubts="; ".join(doubt[:1].lower() + doubt[1:] for doubt in doubts)
            )
        return tr(
            "Nothing on the disk is erased. Snapshots go on in the background; you can pause or stop them."
        )

    def _missing(self) -> str:
        if not self.chosen():
            return tr("Choose at least one folder.")
        if not self.place.folder:
            return tr("Choose a place for the store.")
        if self.place.examined is None:
            return tr("The place is being looked at.")
        if self.place.level() is Level.BAD:
            bad = next(check for check in self.place.list.checks if check.level is Level.BAD)
            return f"{bad.what}. {bad.way_out}."
        return self.secrecy.missing()

    def _begin(self) -> None:
        assert self._view is not None
        self.begin.setEnabled(False)
        store = NewStore(
            self.place.folder,
            self.secrecy.value(),
            self.secrecy.hint.text().strip(),
            self.secrecy.remember.isChecked(),
            self.place.doubts(),
        )
        name = self.points.currentText() or tr("Office")
        self._link.ask(SetUpJob(name, self.chosen(), tuple(self._rules), store), self._made, self._refused)

    def _made(self, made: MadeView) -> None:
        for field in (self.secrecy.passphrase, self.secrecy.again, self.secrecy.hint):
            field.clear()
        self._view = None
        if self.menus.isChecked():
            self._link.ask(PutIntoMenus())
        self.made.emit(made)

    def _refused(self, fault: Fault) -> None:
        self._show()
        self._trouble.setText(str(fault))
        self._trouble.show()
