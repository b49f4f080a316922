"""The desktop's key ring (Secret Service), where a passphrase is remembered by choice."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import Protocol

from good_tide.core.errors import PlaceError
from good_tide.core.translation import tr

_SERVICE = "Good Tide store"


class KeyRing(Protocol):
    """Remembers passphrases of stores by their ids."""

    def recall(self, store: str) -> str | None:
        """The passphrase, None if it is not remembered.

        Raises:
            PlaceError: the key ring cannot be used now.
        """
        ...

    def remember(self, store: str, passphrase: str) -> None:
        """Remember a passphrase.

        Raises:
            PlaceError: the key ring cannot be used now.
        """
        ...

    def forget(self, store: str) -> None:
        """Forget it, if it is remembered.

        Raises:
            PlaceError: the key ring cannot be used now.
        """
        ...


@contextlib.contextmanager
def _told() -> Iterator[None]:
    from keyring import errors  # loads the desktop's libraries; only needed when a passphrase is asked for

    try:
        yield
    except errors.KeyringLocked as error:
        raise PlaceError(
            tr("The key ring is locked"), tr("Unlock it, or type the passphrase instead")
        ) from error
    except errors.NoKeyringError as error:
        raise PlaceError(
            tr("This session has no key ring"),
            tr("Type the passphrase when it is needed, or use a passphrase file"),
        ) from error
    except errors.InitError as error:
        raise PlaceError(
            tr("No program of this session provides a key ring"),
            tr("Install one, such as the desktop's own, or type the passphrase"),
        ) from error
    except errors.KeyringError as error:
        raise PlaceError(
            tr("The key ring did not take or give the passphrase ({error})").format(error=error),
            tr("Type the passphrase when it is needed"),
        ) from error
    except Exception as error:
        raise PlaceError(
            tr("The key ring did not answer ({name})").format(name=type(error).__name__),
            tr("Type the passphrase when it is needed"),
        ) from error


def answers(ring: KeyRing) -> bool:
    """Whether a key ring is there, and open."""
    try:
        ring.recall("-")
    except PlaceError:
        return False
    return True


class DesktopKeyRing:
    """The key ring of the session, over D-Bus."""

    def recall(self, store: str) -> str | None:
        import keyring  # as above

        with _told():
            return keyring.get_password(_SERVICE, store)

    def remember(self, store: str, passphrase: str) -> None:
        import keyring  # as above

        with _told():
            keyring.set_password(_SERVICE, store, passphrase)

    def forget(self, store: str) -> None:
        import keyring  # as above

        with _told():
            if keyring.get_password(_SERVICE, store) is not None:
                keyring.delete_password(_SERVICE, store)


class StandInKeyRing:
    """A key ring in memory, for tests and for the demo; ``locked`` makes it refuse."""

    def __init__(self, locked: bool = False) -> None:
        self.kept: dict[str, str] = {}
        self.locked = locked

    def _check(self) -> None:
        if self.locked:
            raise PlaceError(tr("The key ring is locked"), tr("Unlock it, or type the passphrase instead"))

    def recall(self, store: str) -> str | None:
        self._check()
        return self.kept.get(store)

    def remember(self, store: str, passphrase: str) -> None:
        self._check()
        self.kept[store] = passphrase

    def forget(self, store: str) -> None:
        self._check()
        self.kept.pop(store, None)
