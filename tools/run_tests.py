"""Run all test modules, as many at once as there are processors: ``tools/run_tests.py [--quick]
[MODULE...]``. What a module prints is shown when it fails. ``--quick``: without those that play days,
windows, kills and hostile stores."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from collections import deque
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
LONG_FIRST = (
    "test_hostile",
    "test_survival",
    "test_thinning",
    "test_no_harm",
    "test_setting_up",
    "test_choosing",
    "test_same_store",
    "test_sweep",
    "test_keeping",
    "test_meant",
    "test_window_states",
    "test_window",
    "test_life",
    "test_storage",
    "test_watching",
    "test_holding",
)
"""Modules that take long begin first, so that none is left alone at the end."""
QUICK = (
    "test_architecture",
    "test_carrying",
    "test_core",
    "test_coverage",
    "test_forecast",
    "test_ladder",
    "test_ledger",
    "test_life",
    "test_operations",
    "test_purging",
    "test_refusals",
    "test_rhythm",
    "test_sealing",
    "test_selecting",
    "test_store_changes",
    "test_widgets",
)
"""Modules that need no window, no agent and little time."""


def main() -> int:
    """Run them; the exit code is 1 when one failed."""
    quick = "--quick" in sys.argv[1:]
    named = [name for name in sys.argv[1:] if name != "--quick"]
    names = (
        named
        or list(QUICK if quick else ())
        or [path.stem for path in sorted((ROOT / "tests").glob("test_*.py"))]
    )
    waiting = deque(
        sorted(
            names, key=lambda name: (LONG_FIRST.index(name) if name in LONG_FIRST else len(LONG_FIRST), name)
        )
    )
    failed: list[str] = []
    tell = threading.Lock()

    def work() -> None:
        while True:
            with tell:
                if not waiting:
                    return
                name = waiting.popleft()
            began = time.monotonic()
            command = [
                sys.executable,
                "-X",
                "dev",
                "-W",
                "ignore::DeprecationWarning",
                "-m",
                "unittest",
                "--buffer",
                f"tests.{name}",
            ]
            done = subprocess.run(
                command, cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, check=False
            )
            last = done.stdout.strip().rpartition("\n")[2]
            with tell:
                print(f"{name:<24} {time.monotonic() - began:6.1f} s  {last}", flush=True)
                if done.returncode:
                    failed.append(name)
                    print(done.stdout, flush=True)

    began = time.monotonic()
    workers = [threading.Thread(target=work) for _ in range(os.cpu_count() or 1)]
    for worker in workers:
        worker.start()
    for worker in workers:
        worker.join()
    print(
        f"{len(names)} modules in {time.monotonic() - began:.0f} s"
        + (f"; FAILED: {', '.join(failed)}" if failed else ", all green")
    )
    return int(bool(failed))


if __name__ == "__main__":
    sys.exit(main())
