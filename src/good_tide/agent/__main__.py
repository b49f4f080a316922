"""``python -m good_tide.agent``: the agent without the rest of the command line, which loads sooner."""

from __future__ import annotations

import argparse
import os
import sys
from pathlib import Path

from good_tide.core.errors import GoodTideError

os.environ.setdefault(
    "OPENBLAS_NUM_THREADS", "1"
)  # NumPy's linear algebra is not used; its threads would only take memory


def main() -> int:
    """Run until told to end."""
    parser = argparse.ArgumentParser(prog="good-tide agent")
    parser.add_argument("--settings", type=Path)
    parser.add_argument("--while-used", action="store_true")
    given = parser.parse_args()
    from good_tide.agent.service import run_agent  # loads NumPy, after the setting above

    try:
        return run_agent(given.settings, given.while_used)
    except GoodTideError as error:
        print(f"good-tide: {error}", file=sys.stderr)
        return 3


if __name__ == "__main__":
    sys.exit(main())
