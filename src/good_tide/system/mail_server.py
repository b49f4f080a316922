"""The mail server that reports go through, in the settings folder."""

from __future__ import annotations

from pathlib import Path

import msgspec
import tomli_w

from good_tide.core.errors import PersonError
from good_tide.core.settings import MailServer

MAIL_FILE = "mail.toml"


def load_mail_server(settings: Path) -> MailServer | None:
    """The mail server in a settings folder, None while there is none.

    Raises:
        PersonError: the file cannot be understood.
    """
    file = settings / MAIL_FILE
    try:
        return msgspec.toml.decode(file.read_bytes(), type=MailServer)
    except FileNotFoundError:
        return None
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise PersonError(
            f"{file} cannot be understood: {error}", "Correct it, or run “good-tide mail” again"
        ) from error


def save_mail_server(settings: Path, server: MailServer) -> None:
    """Keep the mail server."""
    settings.mkdir(parents=True, exist_ok=True, mode=0o700)
    new = settings / f".{MAIL_FILE}.new"
    new.write_text(tomli_w.dumps(msgspec.to_builtins(server)))
    new.replace(settings / MAIL_FILE)
