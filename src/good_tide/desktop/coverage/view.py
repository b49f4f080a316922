"""The place Coverage: what is in and what is out, as a picture, a tree and rules; changes are weighed before
they are kept."""

from __future__ import annotations

import os
from collections.abc import Sequence

from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtWidgets import (
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
)

from good_tide.core.coverage import Covered
from good_tide.core.identifiers import JobId
from good_tide.core.kinds import extended
from good_tide.core.rules import Rule, path_pattern
from good_tide.core.translation import tr
from good_tide.core.words import count_words, from_home, printable, size_words
from good_tide.desktop.coverage.area_picture import AreaPicture
from good_tide.desktop.coverage.kinds_dialog import KindsDialog
from good_tide.desktop.coverage.rule_editor import RuleEditor
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import align_numbers, button, card, label, line
from good_tide.desktop.view import RuleOffer, View, ViewKind
from good_tide.protocol.agent_calls import Overview
from good_tide.protocol.coverage_calls import (
    AskWhy,
    FolderShare,
    KeepCoverage,
    ReadSurveyedFolder,
    SurveyFolders,
    SurveyView,
    WhyView,
)

_PATH = Qt.ItemDataRole.UserRole
_FILLED = Qt.ItemDataRole.UserRole + 1
_STATE = Qt.ItemDataRole.UserRole + 2
_CHECKS = {
    Covered.IN: Qt.CheckState.Checked,
    Covered.OUT: Qt.CheckState.Unchecked,
    Covered.PARTLY: Qt.CheckState.PartiallyChecked,
}
_ASK_AFTER_MS = 150
_COLUMNS = {1: 82, 2: 66, 3: 82, 4: 128}
"""Widths of the columns beside the names, pixels; where there is no room for all, the last go first."""
_NAME_WIDTH = 200


class CoveragePage(View):
    """What is covered. Works on a copy of folders and rules until it is kept."""

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._look, self._link = look, link
        self._kept: tuple[tuple[str, ...], tuple[str, ...]] = ((), ())
        self.folders: list[str] = []
        self._home = ""
        self._job = JobId("")
        self._number = link.number()
        self._before: SurveyView | None = None
        self.survey: SurveyView | None = None
        self.sentence = label("", "quiet", wrap=True)
        self.picture = AreaPicture(look)
        self.tree = QTreeWidget()
        self.rules = RuleEditor(look)
        self.why = label("", "small", wrap=True)
        self.ask_why = QLineEdit()
        self.kinds: KindsDialog | None = None
        self.bar, self._difference = QFrame(), label("", "strong", wrap=True)
        self.discard, self.keep = button(tr("Discard")), button(tr("Keep this"), primary=True)
        self._timer = QTimer(self, singleShot=True, interval=_ASK_AFTER_MS)
        self._timer.timeout.connect(self._ask)
        link.hear(SurveyView, self.take_survey)
        self._lay_out()
        self.picture.chosen.connect(self.show_folder)
        self.tree.itemChanged.connect(self._toggled)
        self.tree.itemExpanded.connect(self._fill)
        self.tree.currentItemChanged.connect(lambda now, before: self._selected(now))
        self.rules.changed.connect(lambda rules: self._changed())
        self.rules.kinds_wanted.connect(self._show_kinds)
        self.ask_why.returnPressed.connect(lambda: self._why(os.fsencode(self.ask_why.text())))
        self.discard.clicked.connect(self._discard)
        self.keep.clicked.connect(self._keep)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        """Where the list is narrow, names of folders go before the less telling numbers."""
        if watched is self.tree and event.type() == QEvent.Type.Resize:
            left = self.tree.width() - _NAME_WIDTH
            for number, wide in _COLUMNS.items():
                left -= wide
                self.tree.setColumnHidden(number, left < 0)
        return super().eventFilter(watched, event)

    def _lay_out(self) -> None:
        self.tree.setHeaderLabels([tr("Folder"), tr("In"), tr("Files"), tr("Out"), tr("Changed in a week")])
        self.tree.setAccessibleName(tr("Covered folders; the box says whether a folder is in"))
        align_numbers(self.tree, (1, 2, 3, 4))
        head = self.tree.header()
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        head.setStretchLastSection(False)
        for number, wide in _COLUMNS.items():
            self.tree.setColumnWidth(number, wide)
        self.tree.installEventFilter(self)
        self.ask_why.setPlaceholderText(tr("Why is it in or out? Type its path"))
        self.ask_why.setAccessibleName(tr("Path to ask about"))
        add = button(tr("Cover another folder…"))
        add.clicked.connect(self._add_folder)
        self.remove = button(tr("No longer cover it"))
        self.remove.clicked.connect(self._remove_folder)
        self.remove.setEnabled(False)
        frame, left = card(margin=12)
        key = label(tr("Plain is in, hatched is out. A click leads to the folder."), "small", wrap=True)
        key.setAlignment(Qt.AlignmentFlag.AlignRight)
        legend = line(label(tr("Where the bytes are"), "strong"))
        legend.addWidget(key, 1)
        left.addLayout(legend)
        left.addWidget(self.picture, 2)
        left.addWidget(self.tree, 3)
        left.addWidget(self.ask_why)
        row = line()
        row.addStretch()
        row.addWidget(add)
        row.addWidget(self.remove)
        left.addLayout(row)
        left.addWidget(self.why)
        right_frame, right = card(margin=12)
        right.addWidget(self.rules)
        sides = QHBoxLayout()
        sides.setSpacing(12)
        sides.addWidget(frame, 5)
        sides.addWidget(right_frame, 4)
        self.bar.setObjectName("attention")
        bar = QHBoxLayout(self.bar)
        bar.setContentsMargins(14, 8, 14, 8)
        bar.addWidget(self._difference, 1)
        bar.addWidget(self.discard)
        bar.addWidget(self.keep)
        self.bar.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 16, 24, 16)
        column.setSpacing(10)
        column.addLayout(line(label(tr("Coverage"), "title"), self.sentence, stretch=None, spacing=16))
        column.addLayout(sides, 1)
        column.addWidget(self.bar)

    def show_job(self, overview: Overview) -> None:
        """The job's folders and rules, unless a change is being made."""
        kept = (overview.covered, overview.rules)
        self.rules.know_kinds(extended(overview.kinds))
        if overview.job != self._job or (kept != self._kept and not self._is_changed()):
            self._job, self._kept, self._home = overview.job, kept, overview.home
            self.folders = list(overview.covered)
            self.rules.show_rules(overview.rules)
            self._before = self.survey = None
            if self.isVisible():
                self._ask()
        self._kept = kept

    def entered(self) -> None:
        self._ask(again=True)

    def take_offer(self, offer: object) -> bool:
        if not isinstance(offer, RuleOffer):
            return False
        self.rules.add_line(offer.rule)
        return True

    def _show_kinds(self) -> None:
        """Show the kinds of files, and what each catches here."""
        self.kinds = KindsDialog(self._look, self._link, self)
        self.kinds.kept.connect(self.refresh_wanted)
        self.kinds.kept.connect(self._ask)
        self.kinds.open()

    def _is_changed(self) -> bool:
        return (tuple(self.folders), tuple(self.rules.rules)) != self._kept

    def _changed(self) -> None:
        self.bar.setVisible(self._is_changed())
        self.keep.setEnabled(False)
        self._difference.setText(tr("Weighing the change…"))
        self._number = self._link.number()  # what is still told of before the change says nothing of it
        self._timer.start()

    def _ask(self, again: bool = False) -> None:
        self._number = self._link.number()
        self._link.ask(
            SurveyFolders(
                self._job, self._number, tuple(self.folders), tuple(self.rules.rules), again, self._home
            )
        )

    def take_survey(self, view: SurveyView) -> None:
        """The agent told how far it has looked and judged."""
        if view.number != self._number or not self.isVisible():
            return
        self.survey = view
        out = (
            "; "
            + tr("{out_files}, {out_size} are out").format(
                out_files=count_words(view.out_files, "file"), out_size=size_words(view.out_size)
            )
            if view.out_files
            else ""
        )
        self.sentence.setText(
            tr("{files}, {size} are in{out}{words}").format(
                files=count_words(view.files, "file"),
                size=size_words(view.size),
                out=out,
                words="." if view.done else ", " + tr("so far…"),
            )
        )
        if view.missing:
            self.sentence.setText(
                tr("{text} Not there: {map}.").format(
                    text=self.sentence.text(), map=", ".join(map(self._short, view.missing))
                )
            )
        self.picture.show_folders(view.folders)
        self.rules.show_catches(view.rules, view.done)
        self._show_tree(view.folders)
        if not view.done:
            return
        if not self._is_changed():
            self._before = view
        self.bar.setVisible(self._is_changed())
        self.keep.setEnabled(True)
        self._difference.setText(self._difference_words(view))

    def _difference_words(self, view: SurveyView) -> str:
        """What a change would do, in numbers."""
        before = self._before
        if before is None:
            return tr("{files}, {size} in each snapshot from now on.").format(
                files=count_words(view.files, "file"), size=size_words(view.size)
            )
        files, size = view.files - before.files, view.size - before.size
        if not files and not size:
            words = tr("This changes nothing about what is in now")
        elif files * size < 0:
            words = tr("{abs} {words}, but {abs_2} {words_2} in each snapshot").format(
                abs=count_words(abs(files), "file"),
                words="more" if files > 0 else "less",
                abs_2=size_words(abs(size)),
                words_2="more" if size > 0 else "less",
            )
        else:
            words = tr("{abs}, {abs_2} {words} in each snapshot").format(
                abs=count_words(abs(files), "file"),
                abs_2=size_words(abs(size)),
                words="more" if files > 0 or size > 0 else "less",
            )
        if view.stay:
            words += "; " + tr("{stay} {words} in earlier snapshots and {words_2} there").format(
                stay=count_words(view.stay, "file"),
                words="was" if view.stay == 1 else "were",
                words_2="stays" if view.stay == 1 else "stay",
            )
        return words + "."

    def _show_tree(self, folders: Sequence[FolderShare]) -> None:
        """Bring the tree to what the survey says, keeping what is open and chosen. Deeper folders come when
        one is opened."""
        self.tree.blockSignals(True)
        known = {bytes(item.data(0, _PATH)): item for item in self._every_item()}
        shown = {one.path for one in folders}
        for share in folders:
            item = known.get(share.path)
            if item is None:
                parent = known.get(os.path.dirname(share.path))
                if parent is not None and parent.parent() is not None:
                    continue
                item = QTreeWidgetItem()
                item.setData(0, _PATH, share.path)
                for column in (1, 2, 3, 4):
                    item.setTextAlignment(column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                if parent is None:
                    self.tree.addTopLevelItem(item)
                    item.setExpanded(len(self.folders) <= 4)
                else:
                    parent.addChild(item)
                known[share.path] = item
            self._show_item(item, share)
        for path, item in known.items():
            if path not in shown and item.parent() is None:
                self.tree.takeTopLevelItem(self.tree.indexOfTopLevelItem(item))
        self.tree.blockSignals(False)

    def _every_item(self) -> list[QTreeWidgetItem]:
        found, waiting = (
            [],
            [self.tree.topLevelItem(number) for number in range(self.tree.topLevelItemCount())],
        )
        while waiting:
            item = waiting.pop()
            if item is not None:
                found.append(item)
                waiting += [item.child(number) for number in range(item.childCount())]
        return found

    def _show_item(self, item: QTreeWidgetItem, share: FolderShare) -> None:
        top = item.parent() is None
        name = self._short(share.path) if top else printable(os.path.basename(share.path))
        values = [
            name,
            size_words(share.size),
            f"{share.files:,}",
            size_words(share.out_size) if share.out_files else "",
            size_words(share.fresh) if share.fresh else "",
        ]
        for column, words in enumerate(values):
            if item.text(column) != words:
                item.setText(column, words)
        if item.data(0, _STATE) != share.state:
            item.setData(0, _STATE, share.state)
            item.setToolTip(0, f"{printable(share.path)}: {share.state.value}")
            item.setForeground(0, self._look.color("quiet_text" if share.state is Covered.OUT else "ink"))
        if item.checkState(0) is not _CHECKS[share.state]:
            item.setCheckState(0, _CHECKS[share.state])
        if share.deeper and not item.childCount():
            item.setChildIndicatorPolicy(QTreeWidgetItem.ChildIndicatorPolicy.ShowIndicator)

    def _short(self, path: bytes) -> str:
        """A path with the home folder as ``~``."""
        return from_home(path, self._home)

    def _fill(self, item: QTreeWidgetItem) -> None:
        """A folder was opened: ask for what is in it, once."""
        if item.data(0, _FILLED):
            return
        item.setData(0, _FILLED, True)
        path = bytes(item.data(0, _PATH))
        self._link.ask(ReadSurveyedFolder(path), self._add_children)

    def _add_children(self, shares: list[FolderShare]) -> None:
        known = {bytes(item.data(0, _PATH)): item for item in self._every_item()}
        self.tree.blockSignals(True)
        for share in shares:
            item, parent = known.get(share.path), known.get(os.path.dirname(share.path))
            if item is None and parent is not None:
                item = QTreeWidgetItem()
                item.setData(0, _PATH, share.path)
                for column in (1, 2, 3, 4):
                    item.setTextAlignment(column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                parent.addChild(item)
            if item is not None:
                self._show_item(item, share)
        self.tree.blockSignals(False)

    def _selected(self, item: QTreeWidgetItem | None) -> None:
        self.remove.setEnabled(item is not None and item.parent() is None and len(self.folders) > 1)
        if item is not None:
            path = bytes(item.data(0, _PATH))
            self.picture.select(path)
            self._why(path)

    def show_folder(self, path: bytes) -> None:
        """Go to a folder in the tree."""
        for item in self._every_item():
            if bytes(item.data(0, _PATH)) == path:
                self.tree.setCurrentItem(item)
                self.tree.scrollToItem(item)

    def _why(self, path: bytes) -> None:
        call = AskWhy(self._job, path, tuple(self.folders), tuple(self.rules.rules), self._home)
        self._link.ask(call, self._show_why, lambda fault: self.why.setText(f"{fault.what}."))

    def _show_why(self, view: WhyView) -> None:
        self.why.setText(view.words.replace(f"{self._home}/", "~/") if self._home else view.words)

    def _toggled(self, item: QTreeWidgetItem, column: int) -> None:
        """A folder's box was clicked: a rule on top, or one taken away, makes it so."""
        if column != 0:
            return
        path = bytes(item.data(0, _PATH))
        if item.parent() is None:
            self._uncover(os.fsdecode(path))
            return
        pattern = self._pattern(os.fsdecode(path))
        out, back = Rule(False, path=pattern).text, Rule(True, path=pattern).text
        wanted_in = item.checkState(0) is not Qt.CheckState.Unchecked
        rules = [rule for rule in self.rules.rules if rule not in (out, back)]
        if not wanted_in:
            rules.insert(0, out)
        elif out not in self.rules.rules:
            rules.insert(0, back)
        self.rules.show_rules(rules)
        self._changed()

    def _pattern(self, path: str) -> str:
        """A pattern for exactly this folder: from the home folder where it lies in it, else from the covered
        folder."""
        inner = path_pattern(path, self._home, self.folders)
        return f"{inner}/" if inner else "/**"

    def _add_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, tr("Folder to cover"), self._home)
        if folder:
            self.cover(folder)

    def cover(self, folder: str) -> None:
        """Cover another folder."""
        if folder not in self.folders:
            self.folders.append(folder)
            self._changed()

    def _remove_folder(self) -> None:
        item = self.tree.currentItem()
        if item is not None:
            self._uncover(os.fsdecode(bytes(item.data(0, _PATH))))

    def _uncover(self, path: str) -> None:
        """A covered folder is no longer to be covered; the last one stays."""
        if path in self.folders and len(self.folders) > 1:
            self.folders.remove(path)
            self._changed()
        elif self.survey is not None:
            self._show_tree(self.survey.folders)

    def _discard(self) -> None:
        self.folders = list(self._kept[0])
        self.rules.show_rules(self._kept[1])
        self.bar.hide()
        self._ask()

    def _keep(self) -> None:
        def kept(result: object) -> None:
            self._kept = (tuple(self.folders), tuple(self.rules.rules))
            self._before = self.survey
            self.bar.hide()

        self.keep.setEnabled(False)
        call = KeepCoverage(self._job, tuple(self.folders), tuple(self.rules.rules))
        self._link.ask(call, kept, lambda fault: self._difference.setText(str(fault)))


COVERAGE = ViewKind(tr("Coverage"), "coverage", CoveragePage)
