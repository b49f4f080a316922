"""The helper process: looks at the second half of the folders of which a look is kept, while the main process
looks at the first.

Its arguments are the file of the looks, the time, the key from which on it looks, and the keys of the covered
folders; it writes a letter for each folder.
"""

from __future__ import annotations

import contextlib
import os
import signal
import sys
from pathlib import Path

from good_tide.operations.snapshot.looking import same_between
from good_tide.operations.snapshot.sightings import KeptLooks


def _nothing() -> None:
    """Whoever asked ends this process when it is to stop."""


def main() -> None:
    """Look, and say what was seen."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    file, now, begin, *covered = sys.argv[1:]
    keys = [os.fsencode(one) for one in covered]
    found = same_between(KeptLooks(Path(file)), (os.fsencode(begin), None), keys, int(now), _nothing)
    with contextlib.suppress(BrokenPipeError):  # who asked is no more
        sys.stdout.buffer.write(found)
        sys.stdout.buffer.flush()


if __name__ == "__main__":
    main()
