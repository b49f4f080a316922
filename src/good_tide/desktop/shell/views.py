"""The views of the window, in the order of its rail. A further one is declared in its own package, and named
here."""

from __future__ import annotations

from good_tide.desktop.coverage.view import COVERAGE
from good_tide.desktop.journal.view import JOURNAL
from good_tide.desktop.rhythm.view import RHYTHM
from good_tide.desktop.stores.view import STORES
from good_tide.desktop.timeline.view import TIMELINE

VIEWS = (TIMELINE, COVERAGE, STORES, RHYTHM, JOURNAL)
