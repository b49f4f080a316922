"""Logins to servers that are kept: in the key ring, or in a file that only its owner can read."""

from __future__ import annotations

import os
import stat
import tomllib
from pathlib import Path
from typing import Literal

import msgspec
import tomli_w

from good_tide.core.errors import PlaceError
from good_tide.core.translation import tr
from good_tide.system.desktop_entry import write_file
from good_tide.system.keyrings import KeyRing

LOGINS_FILE = "logins.toml"
_CREDENTIAL = "good-tide-logins"
"""What systemd calls the file, where it hands one to the unit (systemd.exec(5), LoadCredential=)."""

Keeping = Literal["ring", "file", "no"]
"""Where a login is kept that somebody has given."""


class Login(msgspec.Struct, frozen=True, rename="kebab", omit_defaults=True):
    """What is known of the login to a server: a password, or the file of a key and its passphrase."""

    password: str | None = None
    key: str | None = None
    key_passphrase: str | None = None


def ring_name(server: str) -> str:
    """Under which name the key ring has the password of a login."""
    return f"login {server}"


def key_ring_name(server: str) -> str:
    """The same of the passphrase of the key of a login."""
    return f"key {server}"


def login_in_files(settings: Path, server: str) -> Login:
    """What the files of logins have for a server; what the service manager hands over counts first.

    Raises:
        PlaceError: one of them can be read by others, or cannot be read.
    """
    given = os.environ.get("CREDENTIALS_DIRECTORY")
    for file in (*([Path(given) / _CREDENTIAL] if given else []), settings / LOGINS_FILE):
        every = _logins(file, own=file.parent == settings)
        if server in every:
            return every[server]
    return Login()


def _logins(file: Path, own: bool) -> dict[str, Login]:
    try:
        found = file.stat()
        if own and (found.st_uid != os.getuid() or stat.S_IMODE(found.st_mode) & 0o077):
            raise PlaceError(
                tr("{file} can be read by others").format(file=file),
                tr("Run “chmod 600” on it, and change the passwords in it"),
            )
        return msgspec.convert(tomllib.loads(file.read_text(encoding="utf-8")), dict[str, Login])
    except FileNotFoundError:
        return {}
    except (OSError, ValueError, msgspec.ValidationError) as error:
        raise PlaceError(
            tr("The logins in {file} cannot be read ({error})").format(file=file, error=error),
            tr("Put the file right; docs/network-places.md says how it is written"),
        ) from error


def keep_login(settings: Path, ring: KeyRing, server: str, login: Login, where: Keeping) -> None:
    """Keep what somebody has given of a login.

    Raises:
        PlaceError: the key ring, or the file, cannot be used.
    """
    if where == "ring":
        for name, secret in (
            (ring_name(server), login.password),
            (key_ring_name(server), login.key_passphrase),
        ):
            if secret is not None:
                ring.remember(name, secret)
    elif where == "file":
        every = _logins(settings / LOGINS_FILE, own=True)
        before = every.get(server, Login())
        every[server] = Login(
            login.password or before.password,
            login.key or before.key,
            login.key_passphrase or before.key_passphrase,
        )
        _write(settings, every)


def forget_login(settings: Path, ring: KeyRing, server: str) -> None:
    """Keep nothing of a login any more.

    Raises:
        PlaceError: the file cannot be used.
    """
    every = _logins(settings / LOGINS_FILE, own=True)
    if every.pop(server, None) is not None:
        _write(settings, every)
    for name in (ring_name(server), key_ring_name(server)):
        try:
            ring.forget(name)
        except PlaceError:  # where there is no key ring, nothing is in it
            return


def _write(settings: Path, every: dict[str, Login]) -> None:
    settings.mkdir(parents=True, exist_ok=True, mode=0o700)
    data = tomli_w.dumps(msgspec.to_builtins(every))
    write_file(settings / LOGINS_FILE, data.encode(), 0o600)
