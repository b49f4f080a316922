"""The mail server that reports go through, in the settings folder."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import msgspec
import tomli_w

from good_tide.core.errors import PersonError

Security = Literal["tls", "starttls", "none"]
_FILE = "mail.toml"


class MailServer(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """Where mail is handed in.

    :param security: ``tls`` from the first byte (RFC 8314), ``starttls`` (RFC 3207), or ``none``.
    :param login: empty: none is needed. Its password is in the key ring, or in ``password_file``.
    :param ca_file: certificates to trust besides the system's.
    """

    host: str
    port: int = 465
    security: Security = "tls"
    sender: str
    login: str = ""
    password_file: str = ""
    ca_file: str = ""

    @property
    def key(self) -> str:
        """Under which the key ring has the password."""
        return f"mail {self.login} at {self.host}"


def load_mail_server(settings: Path) -> MailServer | None:
    """The mail server in a settings folder, None while there is none.

    Raises:
        PersonError: the file cannot be understood.
    """
    file = settings / _FILE
    try:
        return msgspec.toml.decode(file.read_bytes(), type=MailServer)
    except FileNotFoundError:
        return None
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise PersonError(f"{file} cannot be understood: {error}", "Correct it, or run “good-tide mail” again") from error


def save_mail_server(settings: Path, server: MailServer) -> None:
    """Keep the mail server."""
    settings.mkdir(parents=True, exist_ok=True, mode=0o700)
    new = settings / f".{_FILE}.new"
    new.write_text(tomli_w.dumps(msgspec.to_builtins(server)))
    new.replace(settings / _FILE)
