"""The mail server that this machine's reports go through: named, tried, kept."""

from __future__ import annotations

from typing import get_args

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QDialog, QFormLayout, QLineEdit, QVBoxLayout, QWidget

from good_tide.core.settings import MAIL_PORTS, MailServer, Security
from good_tide.core.translation import tr
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.widgets import button, label, line, number
from good_tide.protocol.faults import Fault
from good_tide.protocol.journal_calls import KeepMailServer, TryMailServer

_SECURITIES: dict[Security, str] = {
    "tls": tr("encrypted from the start (TLS)"),
    "starttls": tr("encrypted once connected (STARTTLS)"),
    "none": tr("not encrypted"),
}
_HIDDEN = QLineEdit.EchoMode.Password


class MailDialog(QDialog):
    """Asks for a mail server. The password goes to the key ring and is never shown again.

    :param server: the one that is kept. :param to: to whom a test is proposed to go.
    """

    kept = Signal()

    def __init__(self, link: AgentLink, server: MailServer | None, to: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Mail server for reports"))
        self.setMinimumWidth(560)
        self._link, self._server = link, server
        self.host, self.security, self.port = QLineEdit(), QComboBox(), number(1, 65535, "", tr("Port"))
        self.origin, self.login, self.password = QLineEdit(), QLineEdit(), QLineEdit(echoMode=_HIDDEN)
        self.to, self.trying = QLineEdit(to), button(tr("Send"))
        self.said = label("", "quiet", wrap=True)
        self.keep, self.cancel = button(tr("Keep"), primary=True), button(tr("Cancel"))
        for security in get_args(Security):
            self.security.addItem(_SECURITIES[security], security)
        self._fill(server)
        self._lay_out()
        self.security.currentIndexChanged.connect(self._secured)
        self.trying.clicked.connect(self._try)
        self.keep.clicked.connect(self._keep)
        self.cancel.clicked.connect(self.reject)

    def _fill(self, server: MailServer | None) -> None:
        known = server or MailServer(host="", sender="")
        self.host.setText(known.host)
        self.host.setPlaceholderText(tr("smtp.example.org"))
        self.security.setCurrentIndex(self.security.findData(known.security))
        self.port.setValue(known.port)
        self.origin.setText(known.sender)
        self.origin.setPlaceholderText(tr("office@example.org"))
        self.login.setText(known.login)
        self.login.setPlaceholderText(tr("none"))
        self.password.setPlaceholderText(
            tr("in {password_file}").format(password_file=known.password_file)
            if known.password_file
            else tr("as it is in the key ring")
            if known.login
            else tr("goes to the key ring")
        )
        self.to.setPlaceholderText(tr("your own address"))

    def _lay_out(self) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(22, 20, 22, 18)
        layout.setSpacing(12)
        form = QFormLayout(horizontalSpacing=14, verticalSpacing=8)
        at = line(self.host, label("port", "quiet"), self.port)
        at.setStretch(0, 1)
        form.addRow(tr("Server"), at)
        self.host.setAccessibleName(tr("Server"))
        others: dict[str, QWidget] = {
            tr("Connection"): self.security,
            tr("Reports come from"): self.origin,
            tr("Login"): self.login,
            tr("Password"): self.password,
        }
        for words, field in others.items():
            form.addRow(words, field)
            field.setAccessibleName(words)
        self.to.setAccessibleName(tr("Send a test to"))
        tested = line(self.to, self.trying)
        tested.setStretch(0, 1)
        form.addRow(tr("Send a test to"), tested)
        layout.addLayout(form)
        layout.addWidget(self.said)
        layout.addLayout(line(self.cancel, self.keep, stretch=0))

    def _secured(self) -> None:
        """Another way of securing has another port."""
        self.port.setValue(MAIL_PORTS[self.security.currentData()])
        self.said.setText(
            tr("Everybody on the way can read the reports, and the password.")
            if self.security.currentData() == "none"
            else ""
        )

    def _wanted(self) -> MailServer:
        known = self._server
        same = known is not None and (known.host, known.login) == (
            self.host.text().strip(),
            self.login.text().strip(),
        )
        return MailServer(
            host=self.host.text().strip(),
            port=self.port.value(),
            security=self.security.currentData(),
            sender=self.origin.text().strip(),
            login=self.login.text().strip(),
            ca_file=known.ca_file if known is not None else "",
            password_file=known.password_file
            if known is not None and same and not self.password.text()
            else "",
        )

    def _try(self) -> None:
        if "@" not in self.to.text():
            self.said.setText(tr("Write the address that the test is to reach."))
            return
        self.trying.setEnabled(False)
        self.said.setText(tr("Sending…"))
        to = self.to.text().strip()
        said = tr("The server took it. See whether it reaches {to}.").format(to=to)
        call = TryMailServer(self._wanted(), self.password.text(), to)
        self._link.ask(call, lambda done: self._tried(said), self._wrong)

    def _tried(self, words: str) -> None:
        self.trying.setEnabled(True)
        self.keep.setEnabled(True)
        self.said.setText(words)

    def _wrong(self, fault: Fault) -> None:
        self._tried(str(fault))

    def _keep(self) -> None:
        def kept(result: object) -> None:
            self.kept.emit()
            self.accept()

        self.keep.setEnabled(False)
        self._link.ask(KeepMailServer(self._wanted(), self.password.text()), kept, self._wrong)
