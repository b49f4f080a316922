"""The script that recovers files without this program. A copy lies on every store, where nothing protects
it."""

from __future__ import annotations

import contextlib
import hashlib
from importlib import resources
from typing import Literal

from good_tide.core.errors import GoodTideError, NotInPlaceError
from good_tide.storage.place import Place

SCRIPT_FILE = "recover.py"
_EARLIER = frozenset(
    (
        "ead7f898f051c9c17230d1726eb38992112d40c564ec46d6fd9186e68e3cf67a",
        "717d6383fdb2b0740a237131ff1e4b1e091e95e8318db58d4e6883783c9ffbc7",
        "68c768d6c5cf249fc90ebd4d01899185956cd401916d71878212873a3eab1445",
        "63458bb5bc5292c6eac42fba3dc1e917dccc5e740a9190afb86c3248cc76f9cf",
        "a80e7b82934e8b6a079f11ec8f273e0604a6387cf29743fb5e5f38f172b9b465",
        "f927f3959b3469779f98775a984ba763480a696812870868416e0502d91432f9",
    )
)
"""SHA-256 of the scripts of earlier versions."""
_LARGEST = 1 << 20

ScriptState = Literal["ours", "earlier", "missing", "unknown"]


def recovery_script() -> bytes:
    """The script as it is put on every store."""
    return resources.files("good_tide.storage").joinpath(SCRIPT_FILE).read_bytes()


def script_state(place: Place) -> ScriptState:
    """Whether the copy on a store is this version's, that of an earlier one, or none that is known: somebody
    may have changed it.

    Raises:
        PlaceError: the disk does not give it.
    """
    try:
        found = place.read(SCRIPT_FILE, 0, _LARGEST)
    except NotInPlaceError:
        return "missing"
    if found == recovery_script():
        return "ours"
    return "earlier" if hashlib.sha256(found).hexdigest() in _EARLIER else "unknown"


def put_script(place: Place) -> None:
    """Put this version's script on a store.

    Raises:
        PlaceError: the disk does not take it.
    """
    with place.create(SCRIPT_FILE, "script-") as file:
        file.write(recovery_script())
        file.commit()


def renew_script(place: Place) -> None:
    """Put this version's script on a store in place of an earlier version's, which may not read all that is
    written from now on. One that nobody knows stays, and ``verify`` tells of it."""
    with contextlib.suppress(GoodTideError):
        if script_state(place) == "earlier":
            put_script(place)
