"""Files that belong to other programs as well, changed so that each change can be taken back: where nobody
else changed a file since, it becomes what it was byte for byte, or goes where it was not there."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path

import msgspec

from good_tide.system.desktop_entry import write_file


class _Change(msgspec.Struct, frozen=True):
    """``before``: None where the file was not there."""

    before: bytes | None
    after: bytes


class SharedFiles:
    """Changes such files, and remembers in a file of its own what they were.

    :param notes: that file.
    """

    def __init__(self, notes: Path) -> None:
        self._notes = notes

    def change(self, file: Path, data: bytes) -> None:
        """Give a file another content.

        Raises:
            PlaceError: it cannot be written.
        """
        file, known = file.resolve(), self._known()  # a link to where somebody keeps it stays one
        now = _content(file)
        before = known[str(file)].before if _is_after(known.get(str(file)), now) else now
        self._note({**known, str(file): _Change(before, data)})
        write_file(file, data, _mode(file))

    def take_back(self, file: Path, without: Callable[[bytes], bytes]) -> None:
        """Make a file what it was; where somebody changed it since, only what ``without`` takes out goes."""
        file, known = file.resolve(), self._known()
        change, now = known.pop(str(file), None), _content(file)
        if now is not None:
            wanted = change.before if change is not None and change.after == now else without(now)
            if wanted is None:
                file.unlink()
            elif wanted != now:
                write_file(file, wanted, _mode(file))
        self._note(known)

    def _known(self) -> dict[str, _Change]:
        with contextlib.suppress(OSError, msgspec.MsgspecError):
            return msgspec.json.decode(self._notes.read_bytes(), type=dict[str, _Change])
        return {}

    def _note(self, known: dict[str, _Change]) -> None:
        if known:
            write_file(self._notes, msgspec.json.encode(known), 0o600)
        else:
            self._notes.unlink(missing_ok=True)


def _is_after(change: _Change | None, now: bytes | None) -> bool:
    return change is not None and change.after == now


def _content(file: Path) -> bytes | None:
    try:
        return file.read_bytes()
    except FileNotFoundError:
        return None


def _mode(file: Path) -> int:
    try:
        return file.stat().st_mode & 0o777
    except OSError:
        return 0o644
