"""The local catalog of a store for commands that look into history: they say how far it is where much of it
has to be read first, as on a machine that sees the store for the first time."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Callable
from pathlib import Path

from good_tide.cli import output
from good_tide.core.errors import DamageError
from good_tide.core.translation import tr
from good_tide.core.words import number_words
from good_tide.operations.stores.opening import Catalog, Store, synced_catalog

_LONG = 500
"""So many unread snapshots take long enough to say so."""
_EACH = 20


def caught_up(store: Store, cache: Path, as_json: bool) -> tuple[Catalog, list[DamageError]]:
    """The local catalog, brought up to date; and what could not be read.

    :param as_json: say nothing: standard error is read by a program as well.
    """
    if as_json:
        return synced_catalog(store, cache)
    with contextlib.ExitStack() as shown:
        return synced_catalog(store, cache, _teller(shown))


def _teller(shown: contextlib.ExitStack) -> Callable[[int, int], None]:
    """Says how far it is: on a terminal all the time, until ``shown`` is closed, and elsewhere once."""
    show: Callable[[str], None] | None = None

    def tell(done: int, total: int) -> None:
        nonlocal show
        if total < _LONG or done % _EACH:
            return
        words = tr("Reading history: {done} of {total} snapshots").format(
            done=number_words(done), total=number_words(total)
        )
        if show is None:
            show = _line(shown, words)
        show(words)

    return tell


def _line(shown: contextlib.ExitStack, words: str) -> Callable[[str], None]:
    """Shows words on standard error: how to exchange them for others."""
    if not sys.stderr.isatty():
        output.say_aside(words)
        return lambda others: None
    from rich.console import Console  # loaded where there is somebody to look at it

    console = Console(stderr=True, highlight=False, soft_wrap=True)
    return shown.enter_context(console.status(words)).update
