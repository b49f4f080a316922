"""Choosing a folder on a server: its address, its key, the login, and its folders."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.addresses import EXAMPLES, Address, address
from good_tide.core.places import Level, ServerNeed
from good_tide.core.translation import tr
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, label, line
from good_tide.desktop.setup.verdicts import CheckList
from good_tide.protocol.faults import Fault
from good_tide.protocol.server_calls import ReadKnownServers, ServerView, TryServer

_EXAMPLE = EXAMPLES["sftp"]
_IN_A_LINE = 16
"""Bytes of a long fingerprint."""


class ServerDialog(QDialog):
    """Leads from an address to a folder that can be used. Accepted: ``address`` is the folder chosen.

    :param began: the address to begin with; empty: none.
    """

    def __init__(self, look: Palette, link: AgentLink, began: str, parent: QWidget) -> None:
        super().__init__(parent)
        self._link = link
        self._view: ServerView | None = None
        self._asked = 0
        self.setWindowTitle(tr("A folder on a server"))
        self.setMinimumSize(640, 640)
        self.field = QComboBox(editable=True)
        self.field.setAccessibleName(tr("Address of the folder"))
        self.field.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.field.setCurrentText(began)
        edit = self.field.lineEdit()
        assert edit is not None
        edit.setPlaceholderText(_EXAMPLE)
        self.connect_it = button(tr("Log in"))
        self.steps = QStackedWidget()
        self._words = label("", "quiet", wrap=True)
        self.steps.addWidget(self._words)
        self.steps.addWidget(self._key_step())
        self.steps.addWidget(self._secret_step())
        self.steps.addWidget(self._folder_step())
        self.checks = CheckList(look)
        self.leave, self.use = button(tr("Not now")), button(tr("Use this folder"), primary=True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(22, 20, 22, 18)
        layout.setSpacing(10)
        layout.addWidget(label(tr("Keep the store on a server"), "title"))
        layout.addWidget(
            label(
                tr(
                    "Who runs the server sees how much there is and when it comes, and can delete it;"
                    " encrypted, nobody there can read it."
                ),
                "quiet",
                wrap=True,
            )
        )
        row = QHBoxLayout()
        row.addWidget(self.field, 1)
        row.addWidget(self.connect_it)
        layout.addLayout(row)
        layout.addWidget(self.steps, 1)
        layout.addWidget(self.checks)
        layout.addLayout(line(self.leave, self.use, stretch=0))
        self.connect_it.clicked.connect(lambda: self._try())
        edit.returnPressed.connect(lambda: self._try())
        self.field.activated.connect(lambda index: self._try())
        self.leave.clicked.connect(self.reject)
        self.use.clicked.connect(self.accept)
        self.use.setEnabled(False)
        for one in (self.leave, self.use, self.connect_it):
            one.setAutoDefault(False)
        self._show_words(_how_to_write())
        link.ask(ReadKnownServers(), self._offer, lambda fault: None)
        if began:
            self._try()

    def _key_step(self) -> QWidget:
        page, inside = _page()
        self._key_words = label("", "", wrap=True)
        self.shown_key = label("", "strong", wrap=True)
        self.shown_key.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.right_key = button(tr("It is the right one"))
        inside.addWidget(self._key_words)
        inside.addWidget(self.shown_key)
        inside.addLayout(line(self.right_key, stretch=1))
        inside.addStretch()
        self.right_key.clicked.connect(lambda: self._try(trust=True))
        return page

    def _secret_step(self) -> QWidget:
        page, inside = _page()
        self._secret_words = label("", "", wrap=True)
        self.secret = QLineEdit()
        self.secret.setEchoMode(QLineEdit.EchoMode.Password)
        self.keep = QCheckBox(tr("Keep it, for runs that begin by themselves"))
        self.keep.setChecked(True)
        self.give = button(tr("Log in with it"))
        inside.addWidget(self._secret_words)
        inside.addWidget(self.secret)
        inside.addWidget(self.keep)
        inside.addLayout(line(self.give, stretch=1))
        inside.addStretch()
        self.give.clicked.connect(lambda: self._try(secret=True))
        self.secret.returnPressed.connect(lambda: self._try(secret=True))
        return page

    def _folder_step(self) -> QWidget:
        page, inside = _page()
        self._folder_words = label("", "", wrap=True)
        self.folders = QListWidget()
        self.folders.setAccessibleName(tr("Folders on the server"))
        self.above = button(tr("Folder above"))
        self.new = QLineEdit()
        self.new.setPlaceholderText(tr("New folder for the store"))
        self.new.setAccessibleName(tr("New folder for the store"))
        inside.addWidget(self._folder_words)
        inside.addWidget(self.folders, 1)
        row = line(self.above)
        row.addWidget(self.new, 1)
        inside.addLayout(row)
        self.folders.itemActivated.connect(lambda item: self._go(self._inside(item.text())))
        self.above.clicked.connect(lambda: self._go(str(address(self._shown(), whole=True).around)))
        self.new.textChanged.connect(lambda words: self._name_new())
        return page

    @property
    def address(self) -> str:
        """The address of the folder that is chosen."""
        new = self.new.text().strip().strip("/")
        return self._inside(new) if new else self._shown()

    def _inside(self, name: str) -> str:
        return f"{self._shown().rstrip('/')}/{name}"

    def _shown(self) -> str:
        return self._view.address if self._view is not None else self.field.currentText().strip()

    def _offer(self, known: list[str]) -> None:
        typed = self.field.currentText()
        self.field.addItems([one for one in known if self.field.findText(one) < 0])
        self.field.setCurrentText(typed)

    def _go(self, where: str) -> None:
        self.new.clear()
        self.field.setCurrentText(where)
        self._try()

    def _try(self, trust: bool = False, secret: bool = False) -> None:
        """Ask the server anew, with what was given on the step that is shown."""
        view, written = self._view, self.field.currentText().strip()
        if not written:
            return
        of_key = view is not None and view.need is ServerNeed.KEY_PASSPHRASE
        given = self.secret.text() if secret else None
        self._asked += 1
        number = self._asked
        self.use.setEnabled(False)
        self.checks.show_checks(())
        self._show_words(tr("Asking the server…"))
        call = TryServer(
            written,
            password=None if of_key else given,
            key_passphrase=given if of_key else None,
            fingerprint=view.shown if trust and view is not None else "",
            keep=secret and self.keep.isChecked(),
        )
        self._link.ask(
            call, lambda found: self._take(number, found), lambda fault: self._refused(number, fault)
        )

    def _take(self, number: int, view: ServerView) -> None:
        if number != self._asked:
            return
        self._view = view
        self.field.setCurrentText(view.address)
        if view.need is ServerNeed.KEY:
            self._key_words.setText(_key_words(view))
            self.shown_key.setText(_in_lines(view.shown))
            self.steps.setCurrentIndex(1)
        elif view.need is not ServerNeed.NOTHING:
            self._ask_secret(view)
        else:
            self._show_folders(view)
        self._show_use()

    def _ask_secret(self, view: ServerView) -> None:
        of_key = view.need is ServerNeed.KEY_PASSPHRASE
        again = " ".join(f"{check.what}." for check in view.checks) if self.secret.text() else ""
        asked = (
            tr("The key for {server} has a passphrase.").format(server=view.server)
            if of_key
            else tr("{server} asks for a password.").format(server=view.server)
        )
        self._secret_words.setText(again or asked)
        self.secret.setPlaceholderText(tr("Passphrase of the key") if of_key else tr("Password"))
        self.secret.selectAll()
        self.steps.setCurrentIndex(2)
        self.secret.setFocus()

    def _show_folders(self, view: ServerView) -> None:
        self.checks.show_checks(view.checks)
        if view.refused:
            self._show_words("")
            return
        place = address(view.address, whole=True)
        if place.is_whole:
            self.checks.show_checks(())
        self._folder_words.setText(_what_is_shown(view, place))
        self.above.setEnabled(place.around is not None)
        self.new.setEnabled(not place.is_whole)
        self.folders.clear()
        self.folders.addItems(list(view.folders))
        self.steps.setCurrentIndex(3)

    def _name_new(self) -> None:
        """What speaks against the folder that is shown does not speak against a new one in it."""
        checks = self._view.checks if self._view is not None else ()
        inside = bool(self.new.text().strip())
        self.checks.show_checks(tuple(check for check in checks if not (inside and check.level is Level.BAD)))
        self._show_use()

    def _show_use(self) -> None:
        """Whether the folder can be used: one with other things in it only for a new folder inside."""
        view = self._view
        ready = view is not None and view.need is ServerNeed.NOTHING and self.steps.currentIndex() == 3
        self.use.setEnabled(ready and self.checks.level is not Level.BAD and self.new.isEnabled())

    def _refused(self, number: int, fault: Fault) -> None:
        if number == self._asked:
            self._show_words(f"{fault.what}. {fault.advice}".strip())

    def _show_words(self, words: str) -> None:
        self._words.setText(words)
        self._words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.steps.setCurrentIndex(0)


def _what_is_shown(view: ServerView, place: Address) -> str:
    """What the list of folders holds."""
    if view.missing:
        return tr("This folder is not there yet; it is made with the store.")
    if not place.is_whole:
        return tr("The folders in {address}. Enter one, or name a new one.").format(address=view.address)
    if place.kind == "smb":
        return tr("The shares of {server}. Enter the one for the store.").format(server=view.server)
    return tr("The buckets of {server}. Enter the one for the store.").format(server=view.server)


def _in_lines(fingerprint: str) -> str:
    """A fingerprint of many bytes in lines that can be compared with one another."""
    kind, *numbers = fingerprint.split(":")
    if len(numbers) < _IN_A_LINE:
        return fingerprint
    lines = (numbers[at : at + _IN_A_LINE] for at in range(0, len(numbers), _IN_A_LINE))
    return "\n".join((f"{kind}:", *(":".join(one) for one in lines)))


def _key_words(view: ServerView) -> str:
    """What is asked of a person when a server is not known."""
    if address(view.address, whole=True).by_certificate:
        return tr(
            "This machine does not trust the certificate that {server} shows. Compare its fingerprint below"
            " with what who runs the server says."
        ).format(server=view.server)
    return tr(
        "{server} is not known yet. It shows the key below: compare it with what who runs the server says."
    ).format(server=view.server)


def _how_to_write() -> str:
    """How addresses of each kind are written, and what each is."""
    kinds = {
        "sftp": tr("a server that you log in to with SSH"),
        "smb": tr("a share of an office server"),
        "davs": tr("a folder of a web server (WebDAV)"),
        "s3": tr("object storage; the key is the access key"),
    }
    lines = (f"{EXAMPLES[kind]}   –   {words}" for kind, words in kinds.items())
    return "\n\n".join((tr("Write the address of a folder in one of these ways:"), *lines))


def _page() -> tuple[QWidget, QVBoxLayout]:
    page = QWidget()
    inside = QVBoxLayout(page)
    inside.setContentsMargins(0, 0, 0, 0)
    inside.setSpacing(8)
    return page, inside
