"""Addresses of places that are in no folder of this machine."""

from __future__ import annotations

import re

from good_tide.core.errors import PersonError
from good_tide.core.translation import tr

_ADDRESS = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*://")


def refuse_address(named: str) -> None:
    """Not take an address for a path: a folder named ``sftp:`` would be made.

    Raises:
        PersonError: it is one (RFC 3986, section 3).
    """
    if _ADDRESS.match(named):
        raise PersonError(
            tr("{named} is an address, and here only folders can be used").format(named=named),
            tr("Let the system mount that place, and name the folder where it is mounted"),
        )
