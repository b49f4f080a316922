"""The program, with what it asks of servers counted: ``python -m benchmarks.counted FILE WORD…`` writes how
many calls there were into a file."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from good_tide.lines.client import Line
from good_tide.start import main as start


def main() -> None:
    """Run the program."""
    into, asked = Path(sys.argv[1]), [0]
    begin: Callable[..., Any] = Line.begin

    def counted(line: Line, *given: Any) -> Any:
        asked[0] += 1
        return begin(line, *given)

    Line.begin = counted  # type: ignore[assignment, method-assign]
    sys.argv = ["good-tide", *sys.argv[2:]]
    try:
        start()
    finally:
        into.write_text(str(asked[0]))


if __name__ == "__main__":
    main()
