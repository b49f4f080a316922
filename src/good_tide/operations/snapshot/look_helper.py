"""The helper process: looks at the folders of which a look is kept from the last one backwards, while the
main process looks from the first one on.

Its arguments are the file of the looks and the time; it writes a letter for each folder, some at a time,
until it is ended.
"""

from __future__ import annotations

import contextlib
import os
import signal
import sys
from itertools import islice
from pathlib import Path

from good_tide.operations.snapshot.looking import BLOCK, same_each
from good_tide.operations.snapshot.sightings import KeptLooks


def main() -> None:
    """Look, and say what was seen."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    answers = same_each(KeptLooks(Path(sys.argv[1])), int(sys.argv[2]), backwards=True)
    with contextlib.suppress(BrokenPipeError):  # nobody waits for more
        while found := b"".join(islice(answers, BLOCK)):
            os.write(sys.stdout.fileno(), found)


if __name__ == "__main__":
    main()
