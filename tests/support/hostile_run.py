"""Runs commands one after the other in this process, and tells how each ended and how much memory all took:
``hostile_run.py (program|FILE)``, the commands as JSON on standard input."""

from __future__ import annotations

import importlib.util
import json
import re
import sys
import time
from pathlib import Path


def main() -> None:
    """Run them."""
    if sys.argv[1] == "program":
        from good_tide.cli.main import main as run
    else:
        spec = importlib.util.spec_from_file_location("recover", sys.argv[1])
        assert spec is not None and spec.loader is not None
        script = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(script)

        def run() -> None:
            sys.exit(script.main())

    for words in json.load(sys.stdin):
        sys.argv[1:] = words
        began = time.process_time()
        try:
            run()
            code: object = "none"
        except SystemExit as end:
            code = end.code
        sys.stderr.flush()
        print(f"\n== {code} after {time.process_time() - began:.1f} s: {words}", flush=True)
    peak = re.search(r"VmHWM:\s+(\d+)", Path("/proc/self/status").read_text())
    assert peak is not None
    print(f"== peak {peak[1]}")


if __name__ == "__main__":
    main()
