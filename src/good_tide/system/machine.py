"""Which workstation this is."""

from __future__ import annotations

import hashlib
import os
import secrets
import socket
from pathlib import Path

import tzlocal

from good_tide.core.records import Machine

_MACHINE_ID = Path("/etc/machine-id")


def this_machine(state: Path) -> Machine:
    """This workstation: a number derived from the system's machine id (machine-id(5) asks not to publish it), and its name.

    People who share a machine may share a store, and each has a history of their own: the number is derived from the person's too, but
    for root. Where the system has no machine id, a random one is kept in ``state``.
    """
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
    return Machine(hashlib.sha256(f"good-tide machine {material}".encode()).hexdigest()[:32], socket.gethostname())


def local_zone() -> str:
    """The IANA name of this machine's time zone; UTC where it has none."""
    try:
        return tzlocal.get_localzone_name() or "UTC"
    except (LookupError, ValueError, OSError):
        return "UTC"
