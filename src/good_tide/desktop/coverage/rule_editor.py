"""The ordered rules of coverage, each with what it catches now, and the making of new ones."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QComboBox,
    QHeaderView,
    QLineEdit,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.kinds import KINDS, Kind
from good_tide.core.rules import MARKERS, RuleError, parse_rule
from good_tide.core.translation import tr
from good_tide.core.words import count_words, printable, size_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import align_numbers, button, label, line
from good_tide.protocol.coverage_calls import RuleView

_CONDITIONS = (
    (tr("path pattern"), "path", tr("Old drafts/")),
    (tr("kind of file"), "kind", ""),
    ("marker", "marker", ""),
    (tr("larger than"), "larger", tr("2 GiB")),
    (tr("smaller than"), "smaller", tr("1 KiB")),
    (tr("older than"), "older", tr("2 years")),
    (tr("newer than"), "newer", tr("12 hours")),
)
_COLUMNS = ["", tr("Rule"), tr("Files"), tr("Size")]


class RuleEditor(QWidget):
    """Rules from the top; the first that catches a thing decides. ``changed`` carries the rules after each
    change."""

    changed = Signal(tuple)
    kinds_wanted = Signal()

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self.rules: list[str] = []
        self._kinds: Mapping[str, Kind] = KINDS
        self._views: tuple[RuleView, ...] = ()
        self.tree = QTreeWidget()
        self.tree.setHeaderLabels(_COLUMNS)
        self.tree.setAccessibleName(tr("Rules, the first that catches a thing decides"))
        self.tree.setRootIsDecorated(False)
        align_numbers(self.tree, (2, 3))
        head = self.tree.header()
        head.setStretchLastSection(False)
        head.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        for column, wide in ((0, 30), (2, 54), (3, 86)):
            self.tree.setColumnWidth(column, wide)
        self.up, self.down, self.remove = button(tr("Up")), button(tr("Down")), button(tr("Remove"))
        self.facts = label("", "small", wrap=True)
        self.verb, self.condition, self.choice, self.value = (
            QComboBox(),
            QComboBox(),
            QComboBox(),
            QLineEdit(),
        )
        self.verb.addItems(["exclude", "include"])
        for words, name, _ in _CONDITIONS:
            self.condition.addItem(words, name)
        for widget, words in (
            (self.verb, tr("Exclude or include")),
            (self.condition, tr("Condition")),
            (self.choice, tr("Value")),
            (self.value, tr("Value")),
        ):
            widget.setAccessibleName(words)
        self.add, self.kinds = button(tr("Add on top")), button(tr("Kinds…"))
        self.kinds.setToolTip(tr("What each kind of files catches; further endings, and kinds of your own"))
        self.kinds.clicked.connect(self.kinds_wanted)
        self.trouble = label("", "harm", wrap=True)
        self.trouble.hide()
        self._lay_out()
        self.condition.currentIndexChanged.connect(lambda number: self._condition_changed())
        self.choice.currentIndexChanged.connect(lambda number: self._explain())
        self.value.textChanged.connect(lambda words: self._explain())
        self.value.returnPressed.connect(self._add)
        self.add.clicked.connect(self._add)
        self.up.clicked.connect(lambda: self._move(-1))
        self.down.clicked.connect(lambda: self._move(1))
        self.remove.clicked.connect(self._remove)
        self.tree.currentItemChanged.connect(lambda now, before: self._show_facts())
        for keys, step in (("Alt+Up", -1), ("Alt+Down", 1)):
            QShortcut(
                QKeySequence(keys), self.tree, context=Qt.ShortcutContext.WidgetShortcut
            ).activated.connect(lambda step=step: self._move(step))
        QShortcut(
            QKeySequence(Qt.Key.Key_Delete), self.tree, context=Qt.ShortcutContext.WidgetShortcut
        ).activated.connect(self._remove)
        self._condition_changed()

    def _lay_out(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(7)
        column.addWidget(label(tr("Rules"), "strong"))
        column.addWidget(
            label(
                tr("The first from the top that catches a thing decides. What none catches is in."),
                "small",
                wrap=True,
            )
        )
        column.addWidget(self.tree, 1)
        column.addLayout(line(self.up, self.down, self.remove, stretch=3))
        column.addWidget(self.facts)
        row = line(self.verb, self.condition)
        row.addWidget(self.choice, 1)
        row.addWidget(self.value, 1)
        row.addWidget(self.kinds)
        column.addLayout(row)
        self.help = label("", "small", wrap=True)
        last = line(self.help)
        last.setStretch(0, 1)
        last.addWidget(self.add, 0, Qt.AlignmentFlag.AlignTop)
        column.addLayout(last)
        column.addWidget(self.trouble)

    def know_kinds(self, kinds: Mapping[str, Kind]) -> None:
        """Offer these kinds of files."""
        if kinds != self._kinds:
            self._kinds = kinds
            chosen = self.choice.currentText()
            self._condition_changed()
            self.choice.setCurrentIndex(max(0, self.choice.findText(chosen)))

    def _condition_changed(self) -> None:
        name = str(self.condition.currentData())
        choices = list(self._kinds) if name == "kind" else list(MARKERS) if name == "marker" else []
        self.kinds.setVisible(name == "kind")
        self.choice.clear()
        self.choice.addItems(choices)
        self.choice.setVisible(bool(choices))
        self.value.setVisible(not choices)
        self.value.setPlaceholderText(
            next(example for _, condition, example in _CONDITIONS if condition == name)
        )
        self._explain()

    def _explain(self) -> None:
        """Say exactly what the rule being made would catch."""
        name, chosen = str(self.condition.currentData()), self.choice.currentText()
        words = {
            "path": tr(
                "As in gitignore, from each covered folder: *.tmp or Drafts/ anywhere in it, a leading slash"
                " for its top only; ~/Music/Old/ from the home folder."
            ),
            "kind": (
                tr("Catches {words}.").format(words=self._kinds[chosen].words)
                if chosen in self._kinds
                else ""
            ),
            "marker": tr("Catches {MARKERS}.").format(MARKERS=MARKERS[chosen]) if chosen in MARKERS else "",
            "larger": tr("Files of more than this."),
            "smaller": tr("Files of less than this."),
            "older": tr("Files last changed longer ago."),
            "newer": tr("Files changed since."),
        }[name]
        self.help.setText(words)
        self.trouble.hide()

    def _add(self) -> None:
        name = str(self.condition.currentData())
        given = self.choice.currentText() if self.choice.count() else self.value.text().strip()
        if name == "path" and any(character.isspace() for character in given):
            given = '"' + given.replace("\\", "\\\\").replace('"', '\\"') + '"'
        self.add_line(f"{self.verb.currentText()} {name} {given}")

    def add_line(self, words: str) -> None:
        """Put a rule on top, or say why it is none."""
        try:
            rule = parse_rule(words, self._kinds).text
        except RuleError as error:
            self.trouble.setText(str(error))
            self.trouble.show()
            return
        self.value.clear()
        self.show_rules([rule, *(one for one in self.rules if one != rule)])
        self.changed.emit(tuple(self.rules))

    def show_rules(self, rules: Sequence[str], select: int = 0) -> None:
        """Show other rules."""
        self.rules = list(rules)
        self._views = ()
        self.tree.clear()
        for number, rule in enumerate(self.rules, 1):
            item = QTreeWidgetItem([str(number), rule, "", ""])
            item.setToolTip(1, rule)
            for column in (2, 3):
                item.setTextAlignment(column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            item.setToolTip(1, rule)
            self.tree.addTopLevelItem(item)
        chosen = self.tree.topLevelItem(min(select, len(self.rules) - 1)) if self.rules else None
        if chosen is not None:
            self.tree.setCurrentItem(chosen)
        self._show_facts()

    def show_catches(self, views: Sequence[RuleView], done: bool) -> None:
        """Show what the rules catch, as far as it is known."""
        if [view.text for view in views] != self.rules:
            return
        self._views = tuple(views)
        for number, view in enumerate(views):
            item = self.tree.topLevelItem(number)
            if item is None:
                continue
            item.setText(2, f"{view.files:,}" if view.files or done else "…")
            idle = done and bool(view.note)
            short = (
                tr("hidden by {hidden_by}").format(hidden_by=view.hidden_by + 1)
                if view.hidden_by is not None
                else "nothing"
            )
            item.setText(3, size_words(view.size) if view.files else short if idle else "" if done else "…")
            shade = "sand" if view.hidden_by is not None else "quiet_text" if idle else "ink"
            for column in range(4):
                item.setForeground(column, self._look.color(shade))
            item.setToolTip(3, view.note)
        self._show_facts()

    def _show_facts(self) -> None:
        row = self._row()
        for widget, on in (
            (self.up, row > 0),
            (self.down, 0 <= row < len(self.rules) - 1),
            (self.remove, row >= 0),
        ):
            widget.setEnabled(on)
        if row < 0 or row >= len(self._views):
            self.facts.setText("" if self.rules else tr("No rules: everything in the covered folders is in."))
            return
        view = self._views[row]
        if not view.files:
            self.facts.setText(
                tr("Rule {row} {note}.").format(row=row + 1, note=view.note or tr("catches nothing so far"))
            )
            return
        largest = "; ".join(
            f"{printable(os.path.basename(path))} {size_words(size)}" for size, path in view.largest
        )
        self.facts.setText(
            tr("Rule {row} decides about {files}, {size}. Largest: {largest}.").format(
                row=row + 1,
                files=count_words(view.files, "file"),
                size=size_words(view.size),
                largest=largest,
            )
        )

    def _row(self) -> int:
        item = self.tree.currentItem()
        return -1 if item is None else self.tree.indexOfTopLevelItem(item)

    def _move(self, step: int) -> None:
        row = self._row()
        if row >= 0 and 0 <= row + step < len(self.rules):
            rules = list(self.rules)
            rules[row], rules[row + step] = rules[row + step], rules[row]
            self.show_rules(rules, row + step)
            self.changed.emit(tuple(self.rules))

    def _remove(self) -> None:
        row = self._row()
        if row >= 0:
            self.show_rules([rule for number, rule in enumerate(self.rules) if number != row], row)
            self.changed.emit(tuple(self.rules))
