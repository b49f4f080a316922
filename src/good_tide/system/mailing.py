"""Sending mail: SMTP (RFC 5321) with TLS and login, by the standard library."""

from __future__ import annotations

import contextlib
import smtplib
import ssl
from collections.abc import Iterator, Sequence
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from pathlib import Path

from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.settings import MailServer
from good_tide.system.keyrings import KeyRing

_SECONDS = 30.0


def send(
    server: MailServer,
    to: Sequence[str],
    subject: str,
    text: str,
    html: str,
    ring: KeyRing,
    password: str = "",
) -> None:
    """Send a message, as plain text with HTML beside it.

    :param password: of the login; empty: from the key ring or the password file.

    Raises:
        PlaceError: the server cannot be reached, or does not take it.
        PersonError: an address, the login or a file is wrong.
    """
    message = _message(server.sender, to, subject, text, html)
    if server.login and not password:
        password = _password(server, ring)
    try:
        with _connected(server) as connection:
            if server.login:
                connection.login(server.login, password)
            refused = connection.send_message(message)
    except smtplib.SMTPAuthenticationError as error:
        raise PersonError(
            f"{server.host} did not take the login {server.login}",
            "Give the password anew, in Rhythm or with “good-tide mail”",
        ) from error
    except smtplib.SMTPNotSupportedError as error:
        raise PersonError(
            f"{server.host} does not offer what is wanted ({error})",
            "Choose another way of securing, in Rhythm or with “good-tide mail”",
        ) from error
    except smtplib.SMTPException as error:
        raise PlaceError(
            f"{server.host} did not take the message ({error})", "See whether the addresses are right"
        ) from error
    except ssl.SSLError as error:
        raise PlaceError(
            f"The connection to {server.host} is not safe ({error.reason})",
            "Check the server's name and certificate",
        ) from error
    except OSError as error:
        raise PlaceError(
            f"{server.host} cannot be reached ({error.strerror or error})",
            "See whether the network and the server work",
        ) from error
    if refused:
        raise PlaceError(f"{server.host} refused {', '.join(refused)}", "See whether the addresses are right")


def _message(sender: str, to: Sequence[str], subject: str, text: str, html: str) -> EmailMessage:
    message = EmailMessage()
    try:
        message["From"], message["To"], message["Subject"] = sender, ", ".join(to), subject
    except (ValueError, IndexError) as error:
        raise PersonError(
            "An address cannot be used", "Write addresses such as office@example.org"
        ) from error
    message["Date"], message["Message-ID"] = (
        formatdate(localtime=True),
        make_msgid(domain="good-tide.invalid"),
    )
    message["Auto-Submitted"] = "auto-generated"
    message.set_content(text)
    message.add_alternative(html, subtype="html")
    return message


def _password(server: MailServer, ring: KeyRing) -> str:
    if server.password_file:
        try:
            return Path(server.password_file).read_text(encoding="utf-8").rstrip("\r\n")
        except (OSError, UnicodeDecodeError) as error:
            raise PersonError(
                f"The password file {server.password_file} cannot be read", "Check the path"
            ) from error
    found = ring.recall(server.key)
    if found is None:
        raise PersonError(
            f"The password of {server.login} at {server.host} is not known",
            "Give it in Rhythm, or with “good-tide mail”",
        )
    return found


@contextlib.contextmanager
def _connected(server: MailServer) -> Iterator[smtplib.SMTP]:
    context = ssl.create_default_context()
    if server.ca_file:
        context.load_verify_locations(server.ca_file)
    if server.security == "tls":
        with smtplib.SMTP_SSL(server.host, server.port, timeout=_SECONDS, context=context) as connection:
            yield connection
        return
    with smtplib.SMTP(server.host, server.port, timeout=_SECONDS) as connection:
        if server.security == "starttls":
            connection.starttls(context=context)
        yield connection
