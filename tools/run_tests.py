"""Run all test modules, two more at once than there are processors, as each waits at times:
``tools/run_tests.py [--quick | --coverage] [MODULE...]``, with modules such as ``unit.core.test_words``. What
one prints is shown when it fails. ``--quick``: only unit tests that need little time. ``--coverage``: say
what was reached, in sub-processes as well."""

from __future__ import annotations

import compileall
import contextlib
import fcntl
import json
import os
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections import deque
from collections.abc import Iterator, Mapping
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
LONG_FIRST = (
    "scenario.test_hostile",
    "scenario.test_languages",
    "scenario.test_mounts",
    "scenario.test_file_managers",
    "scenario.test_survival",
    "scenario.test_readme",
    "scenario.test_setting_up",
    "unit.system.test_machine",
    "scenario.test_object_place",
    "scenario.test_keeping",
    "scenario.test_server_faults",
    "scenario.test_lossy_lines",
    "scenario.test_mounted_share",
    "scenario.test_sftp_place",
    "scenario.test_dav_place",
    "scenario.test_smb_place",
    "scenario.test_window",
    "scenario.test_job_settings",
    "scenario.test_alarm",
    "unit.operations.snapshot.test_new_trees",
    "unit.operations.snapshot.test_resume_log",
    "unit.operations.snapshot.test_sightings",
    "scenario.test_thinning",
    "scenario.test_printed",
    "scenario.test_telling",
    "unit.storage.test_header",
    "unit.storage.test_ledger",
    "property.test_sweep",
)
"""Modules that take long begin first, so that none is left alone at the end."""
MOSTLY_WAITING = (
    "scenario.test_mounted_share",
    "scenario.test_lossy_lines",
    "scenario.test_server_store",
    "scenario.test_server_faults",
    "scenario.test_locked_job",
    "scenario.test_living_here",
)
"""Modules that take little of a processor: one more worker has these for itself."""
NOT_QUICK = (
    "unit.agent.test_folder_watching",
    "unit.core.test_forecast",
    "unit.core.test_ladder",
    "unit.operations.coverage.test_selecting",
    "unit.operations.history.test_changes",
    "unit.operations.history.test_differences",
    "unit.operations.integrity.test_proving",
    "unit.operations.mount.test_tree",
    "unit.operations.restore.test_archive",
    "unit.operations.restore.test_steps",
    "unit.operations.retention.test_purge",
    "unit.operations.retention.test_thinning",
    "unit.operations.records.test_store_memory",
    "unit.operations.snapshot.test_holding",
    "unit.operations.snapshot.test_joined_listings",
    "unit.operations.snapshot.test_sightings",
    "unit.operations.stores.test_passphrases",
    "unit.operations.stores.test_pinning",
    "unit.operations.snapshot.test_new_trees",
    "unit.operations.snapshot.test_resume_log",
    "unit.storage.test_catalog",
    "unit.storage.test_catalog_copy",
    "unit.storage.test_catalog_names",
    "unit.storage.test_catalog_release",
    "unit.storage.test_fine",
    "unit.storage.test_header",
    "unit.storage.test_ledger",
    "unit.storage.test_place_kinds",
    "unit.storage.test_store",
    "unit.storage.test_summaries",
    "unit.storage.test_sweep",
    "unit.system.test_jobs",
    "unit.system.test_machine",
)
"""Unit tests that run whole commands, or many examples."""


ON_THE_SYSTEM_DISK = (
    "scenario.test_file_managers",
    "scenario.test_job_settings",
    "scenario.test_keeping",
    "scenario.test_languages",
    "scenario.test_living_here",
    "scenario.test_readme",
    "scenario.test_terminal",
)
"""Tests in which the disk of stores and files has no name of its own, and no other one is there."""
_MEMORY_DISK_BYTES = 8 << 30
_DISK_PREFIX = "good-tide-tests-"


def remove_left_disks(memory: Path) -> None:
    """Take away the disks of runs that were killed: tests that look at the disks of a machine would see them,
    and their memory would stay taken. A run that goes on holds its image locked."""
    mounted = {Path(line.split()[1]) for line in Path("/proc/mounts").read_text().splitlines()}
    for name in {path.name for path in (*mounted, *memory.iterdir()) if path.name.startswith(_DISK_PREFIX)}:
        image = memory / name
        with contextlib.suppress(FileNotFoundError), open(image, "rb") as file:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                continue
        for folder in (path for path in mounted if path.name == name):
            subprocess.run(["umount", "--lazy", str(folder)], capture_output=True, check=False)
            with contextlib.suppress(OSError):
                folder.rmdir()
        image.unlink(missing_ok=True)


@contextlib.contextmanager
def memory_disk() -> Iterator[str | None]:
    """A folder on a real file system that lies in memory: most of the time of tests on a slow disk is waiting
    for it. None where there is too little memory, or only root could mount it."""
    memory = Path("/dev/shm")
    if os.getuid() != 0 or not memory.is_dir():
        yield None
        return
    remove_left_disks(memory)
    if shutil.disk_usage(memory).free < _MEMORY_DISK_BYTES:
        yield None
        return
    folder = Path(tempfile.mkdtemp(prefix=_DISK_PREFIX))
    image = memory / folder.name
    made = (
        ["mkfs.ext4", "-q", "-m", "0", str(image)],
        ["mount", "-o", "loop,noatime,discard", str(image), str(folder)],
    )
    try:
        with open(image, "wb") as file:
            fcntl.flock(file, fcntl.LOCK_EX)
            file.truncate(_MEMORY_DISK_BYTES)
            ready = all(
                subprocess.run(words, capture_output=True, check=False).returncode == 0 for words in made
            )
            if ready:
                folder.chmod(0o1777)
            yield str(folder) if ready else None
    finally:
        subprocess.run(["umount", "--lazy", str(folder)], capture_output=True, check=False)
        image.unlink(missing_ok=True)
        with contextlib.suppress(OSError):
            folder.rmdir()


def modules() -> list[str]:
    """All test modules, by their names within ``tests``."""
    found = (ROOT / "tests").rglob("test_*.py")
    return sorted(".".join(path.relative_to(ROOT / "tests").with_suffix("").parts) for path in found)


def run(command: list[str], environment: Mapping[str, str]) -> tuple[int, str, float]:
    """Its exit status, what it printed, and the seconds of a processor that it and all it waited for took."""
    with tempfile.TemporaryFile() as output:
        child = subprocess.Popen(command, cwd=ROOT, stdout=output, stderr=subprocess.STDOUT, env=environment)
        _, status, used = os.wait4(child.pid, 0)
        child.returncode = os.waitstatus_to_exitcode(status)
        output.seek(0)
        return child.returncode, output.read().decode(errors="replace"), used.ru_utime + used.ru_stime


def main() -> int:
    """Run them; the exit code is 1 when one failed."""
    options = [word for word in sys.argv[1:] if word.startswith("--")]
    names = [word for word in sys.argv[1:] if not word.startswith("--")] or modules()
    measured = "--coverage" in options
    warned = ("-X", "faulthandler", "-W", "default", "-W", "ignore::DeprecationWarning")
    before = ("-m", "coverage", "run") if measured else warned
    if measured:
        subprocess.run([sys.executable, "-m", "coverage", "erase"], cwd=ROOT, check=True)
    for folder in ("src", "tests"):  # each of some thousand processes would, where Python keeps nothing
        compileall.compile_dir(ROOT / folder, quiet=1)
    if "--quick" in options:
        names = [name for name in names if name.startswith("unit.") and name not in NOT_QUICK]
    waiting = deque(
        sorted(
            names, key=lambda name: (LONG_FIRST.index(name) if name in LONG_FIRST else len(LONG_FIRST), name)
        )
    )
    idle = deque(name for name in waiting if name in MOSTLY_WAITING)
    for name in idle:
        waiting.remove(name)
    failed: list[str] = []
    tell = threading.Lock()

    def work(queue: deque[str]) -> None:
        while True:
            with tell:
                if not queue:
                    return
                name = queue.popleft()
            began = time.monotonic()
            command = [sys.executable, *before, "-m", "unittest", "--buffer", f"tests.{name}"]
            on_disk = disk is None or name in ON_THE_SYSTEM_DISK
            if disk is not None and on_disk:  # they do not see it either
                command = ["unshare", "-m", "sh", "-c", 'umount -l "$0"; exec "$@"', disk, *command]
            environment = os.environ if on_disk else {**os.environ, "TMPDIR": str(disk)}
            status, output, spent = run(command, environment)
            last = output.strip().rpartition("\n")[2]
            with tell:
                took = f"{time.monotonic() - began:6.1f} s, {spent:5.1f} of a processor"
                print(f"{name:<48} {took}  {last}", flush=True)
                if status:
                    failed.append(name)
                    print(output, flush=True)

    began = time.monotonic()
    queues = [waiting] * ((os.cpu_count() or 1) + 1) + [idle]
    workers = [threading.Thread(target=work, args=(queue,)) for queue in queues]
    with memory_disk() as disk:
        for worker in workers:
            worker.start()
        for worker in workers:
            worker.join()
    print(
        f"{len(names)} modules in {time.monotonic() - began:.0f} s"
        + (f"; FAILED: {', '.join(failed)}" if failed else ", all green")
    )
    if measured:
        report_coverage()
    return int(bool(failed))


def report_coverage() -> None:
    """Put together what all processes reached, and print it by package."""
    for words in (["combine", "--quiet"], ["json", "--quiet", "-o", ".coverage.json"]):
        subprocess.run([sys.executable, "-m", "coverage", *words], cwd=ROOT, check=True)
    files = json.loads((ROOT / ".coverage.json").read_text())["files"]
    packages: dict[str, list[int]] = {}
    for name, found in files.items():
        parts = Path(name).parts[2:-1]
        for package in ("/".join(parts[:1]) or "good_tide", "all"):
            counts = packages.setdefault(package, [0, 0])
            counts[0] += found["summary"]["covered_lines"]
            counts[1] += found["summary"]["num_statements"]
    for package, (covered, lines) in sorted(packages.items()):
        print(f"{package:<14} {100 * covered / lines:5.1f} % of {lines:,} lines")


if __name__ == "__main__":
    sys.exit(main())
