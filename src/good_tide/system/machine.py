"""Which workstation this is."""

from __future__ import annotations

import contextlib
import hashlib
import os
import secrets
import socket
from pathlib import Path

import msgspec
import tzlocal

from good_tide.core.identifiers import MachineId
from good_tide.core.records import Machine

_MACHINE_ID = Path("/etc/machine-id")
_INTERFACES = Path("/sys/class/net")
_DISKS = Path("/dev/disk/by-id")
_BOARD = Path("/sys/class/dmi/id/product_uuid")
_FILES = ("machine.json", "machine-again.json")
"""The same in both: were it lost, this machine would begin another history in every store."""
_PERMANENT = "0"
"""``addr_assign_type`` of an address that the hardware has (Documentation/ABI/testing/sysfs-class-net)."""


class _Known(msgspec.Struct):
    """What is kept of this machine's identity.

    :param traits: of the hardware, as they were last seen.
    :param copies: how often it became another machine, as copies of a disk do.
    :param before: the id that it had before.
    :param news: that it is another one now was not said yet.
    """

    id: str
    traits: list[str] = []
    copies: int = 0
    before: str = ""
    news: bool = False


class NewIdentity(msgspec.Struct, frozen=True):
    """This machine is another one than its files say: they are a copy. ``before`` is the id of the one that
    they were copied from."""

    before: str
    machine: Machine


def this_machine(state: Path) -> Machine:
    """This workstation: its id, and its name.

    The id is derived from the system's machine id (machine-id(5) asks not to publish it), from the person's
    number but for root, as people who share a machine may share a store and each has a history of their own,
    and from what the hardware has and no image of a disk copies. It is kept in ``state`` with that hardware.
    Where none of it is found again, the files were copied to another machine, which gets an id of its own.
    Where earlier versions were at work, the id stays what it was.
    """
    traits, known = _traits(), _read(state)
    if known is None:
        known = _Known(_first_id(state, traits), traits)
        _keep(state, known)
    if traits and known.traits and not set(traits) & set(known.traits):
        known = _another(known, traits)
        _keep(state, known)
    elif traits and traits != known.traits:
        known.traits = traits
        _keep(state, known)
    return _machine(known)


def become_another(state: Path) -> NewIdentity:
    """Give this machine an id of its own from now on, as a person says that it is a copy."""
    machine, traits = this_machine(state), _traits()
    known = _another(_read(state) or _Known(machine.id, traits), traits)
    known.news = False
    _keep(state, known)
    return NewIdentity(known.before, _machine(known))


def news_of_machine(state: Path) -> NewIdentity | None:
    """That this machine became another one, told once; None where it did not."""
    known = _read(state)
    if known is None or not known.news:
        return None
    known.news = False
    _keep(state, known)
    return NewIdentity(known.before, _machine(known))


def _machine(known: _Known) -> Machine:
    return Machine(
        MachineId(known.id), socket.gethostname() + (f" ({known.copies + 1})" if known.copies else "")
    )


def _another(known: _Known, traits: list[str]) -> _Known:
    material = f"good-tide copy {known.id} {' '.join(traits)} {secrets.token_hex(8)}"
    return _Known(
        hashlib.sha256(material.encode()).hexdigest()[:32], traits, known.copies + 1, known.id, True
    )


def _read(state: Path) -> _Known | None:
    for name in _FILES:
        with contextlib.suppress(OSError, msgspec.MsgspecError):
            return msgspec.json.decode((state / name).read_bytes(), type=_Known)
    return None


def _keep(state: Path, known: _Known) -> None:
    for name in _FILES:
        new = state / f"{name}.{secrets.token_hex(4)}"
        with contextlib.suppress(OSError):
            state.mkdir(parents=True, exist_ok=True, mode=0o700)
            with open(new, "wb") as file:
                file.write(msgspec.json.encode(known))
                file.flush()
                os.fsync(file.fileno())
            new.replace(state / name)
        with contextlib.suppress(OSError):
            new.unlink()


def _first_id(state: Path, traits: list[str]) -> str:
    """The id of a machine that has none yet. Where earlier versions were at work it is theirs, which knew
    nothing of the hardware."""
    try:
        material = _MACHINE_ID.read_text().strip()
    except OSError:
        material = ""
    if not material:
        own = state / "machine-id"
        if not own.exists():
            own.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            own.write_text(secrets.token_hex(16))
        material = own.read_text().strip()
    if os.getuid():
        material += f" {os.getuid()}"
    if not any((state / trace).exists() for trace in ("journal.sqlite3", "runs", "rhythm.json")):
        material = " ".join([material, *traits])
    return hashlib.sha256(f"good-tide machine {material}".encode()).hexdigest()[:32]


def _traits() -> list[str]:
    """What tells this machine's hardware from any other's, as digests: addresses of its network cards,
    built-in disks, its board."""
    found = set()
    for card in _listed(_INTERFACES):
        address = _text(card / "address")
        if (
            (card / "device").exists()
            and _text(card / "addr_assign_type") == _PERMANENT
            and address.strip("0:")
        ):
            found.add(f"card {address}")
    for disk in _listed(_DISKS):
        if "-part" not in disk.name and not disk.name.startswith(_PASSING):
            found.add(f"disk {disk.name}")
    board = _text(_BOARD)
    if board:
        found.add(f"board {board}")
    return sorted(hashlib.sha256(f"good-tide trait {trait}".encode()).hexdigest()[:16] for trait in found)


_PASSING = ("usb-", "mmc-", "dm-", "lvm-", "md-", "ata-QEMU", "scsi-0QEMU", "virtio-", "wwn-")
"""Beginnings of names of disks that are carried about, made of others, or called the same on every virtual
machine."""


def _listed(folder: Path) -> list[Path]:
    try:
        return sorted(folder.iterdir())
    except OSError:
        return []


def _text(file: Path) -> str:
    try:
        return file.read_text().strip()
    except (OSError, UnicodeDecodeError):
        return ""


def local_zone() -> str:
    """The IANA name of this machine's time zone; UTC where it has none."""
    try:
        return tzlocal.get_localzone_name() or "UTC"
    except (LookupError, ValueError, OSError):
        return "UTC"
