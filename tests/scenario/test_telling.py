"""The journal, reports, mail, the watch from afar, and the commands that tell."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path
from typing import Any

from good_tide.system.service import autostart_text, unit_text
from tests.support.base import (
    GoodTideTest,
    program,
)


class CommandTest(GoodTideTest):
    def ok(self, *words: str | Path, code: int = 0) -> dict[str, Any]:
        found = program(*words, "--json")
        self.assertEqual(found.returncode, code, found.stdout + found.stderr)
        return dict(json.loads(found.stdout))

    def test_the_rhythm_of_a_job_and_how_it_stands(self) -> None:
        self.write("a", "a")
        self.ok(
            "job", "add", "Office", "--folder", self.work, "--store", self.folder / "store", "--unencrypted"
        )
        state = self.ok("status", code=1)["jobs"][0]["state"]
        self.assertIn(
            state, ("due", "first"), "shortly after a full hour the due run has its minutes of grace"
        )
        changed = self.ok(
            "rhythm",
            "Office",
            "--every",
            "2h",
            "--at",
            "weekdays 12:30",
            "--allowed",
            "mon-fri 08:00-20:00",
            "--on-disk",
            "--next",
            "10",
        )
        self.assertEqual(
            changed["words"],
            "every 2 hours, on weekdays at 12:30 and when the disk comes, only Mon–Fri 08:00 to 20:00",
        )
        self.assertEqual(len(changed["next"]), 10)
        left = self.ok("rhythm", "Office", "--large", "1 GiB", "--timed-only", "/srv/films")
        self.assertEqual((left["large_bytes"], left["timed_only"]), (1 << 30, ["/srv/films"]))
        self.assertEqual(self.ok("rhythm", "Office", "--timed-only", "none")["timed_only"], [])
        self.ok("rhythm", "Office", "--by-hand", "--allowed", "always")
        self.ok("snapshot", "Office")
        status = self.ok("status", "office")
        self.assertEqual(
            [(job["state"], job["trouble"], job["stores"][0]["present"]) for job in status["jobs"]],
            [("by hand", [], True)],
        )
        self.assertEqual(program("rhythm", "Office", "--every", "5min").returncode, 2)
        self.assertEqual(program("rhythm", "Office", "--at", "noon").returncode, 2)
        runs = self.ok("journal")["runs"]
        self.assertEqual([(run["result"], run["occasion"]) for run in runs], [("done", "hand")])
        self.assertIn("Office", program("journal", "--runs").stdout)
        self.assertIn("Snapshots are taken only by hand", program("journal", "--level", "good").stdout)
        program("journal", "--export", self.folder / "out.csv")
        self.assertTrue((self.folder / "out.csv").exists())
        self.assertIn("all is well", program("report").stdout)
        self.assertEqual(program("report", "--mail").returncode, 2)
        fleet_rows = self.ok("fleet", self.folder / "store")["machines"]
        self.assertEqual(
            [(row["job"], row["snapshots"], row["late_seconds"]) for row in fleet_rows], [("Office", 1, 0)]
        )

    def test_the_fleet_follows_renaming_and_removing(self) -> None:
        self.write("a", "a")
        store = self.folder / "store"
        self.ok("job", "add", "Office", "--folder", self.work, "--store", store, "--unencrypted")
        self.ok("snapshot", "Office")
        self.ok("job", "change", "Office", "--rename", "Front of house")
        (row,) = self.ok("fleet", store)["machines"]
        self.assertEqual((row["job"], row["retired"], row["week"][-1]), ("Front of house", None, 1))
        machine = row["machine"]
        self.assertEqual(program("fleet", store, "--late").stdout.strip(), "None is late.")
        self.ok("fleet", store, "--retire", machine, "--job", "Front of house")
        self.assertIn("retired today", program("fleet", store, "--group", "job").stdout)
        self.ok("fleet", store, "--reinstate", machine)
        self.assertIsNone(self.ok("fleet", store)["machines"][0]["retired"])
        self.ok("job", "remove", "Front of house")
        self.assertIsNotNone(self.ok("fleet", store)["machines"][0]["retired"])
        for words in (("--retire", "nobody"), ("--job", "x"), ("--retire", "a", "--reinstate", "b")):
            self.assertEqual(program("fleet", store, *words).returncode, 2)

    def test_a_store_that_is_away_when_its_job_is_removed_is_named(self) -> None:
        self.write("a", "a")
        store = self.folder / "store"
        self.ok("job", "add", "Office", "--folder", self.work, "--store", store, "--unencrypted")
        self.ok("snapshot", "Office")
        store.rename(self.folder / "away")
        self.assertIn(f"good-tide fleet {store} --retire", program("job", "remove", "Office").stdout)

    def test_pauses_and_the_end_of_the_day_without_an_agent(self) -> None:
        self.write("a", "a")
        self.ok(
            "job", "add", "Office", "--folder", self.work, "--store", self.folder / "store", "--unencrypted"
        )
        self.ok("pause", "--for", "2h")
        self.assertEqual(self.ok("status", code=1)["jobs"][0]["state"], "paused")
        self.assertEqual(self.ok("run-due")["words"], "1 of the jobs run")
        self.ok("resume")
        self.assertEqual(self.ok("run-due")["words"], "Nothing was due")
        self.assertEqual(program("pause", "--for", "soon").returncode, 2)
        refused = program("eject", self.folder / "store")
        self.assertNotEqual(refused.returncode, 0)
        self.assertTrue(refused.stderr.startswith("good-tide: "), refused.stderr)

    def test_the_agent_is_a_service_that_the_system_accepts(self) -> None:
        self.assertEqual(self.ok("agent", "install")["started_by"], "autostart")
        entry = self.folder / "xdg_config_home" / "autostart" / "good-tide-agent.desktop"
        subprocess.run(["desktop-file-validate", str(entry)], check=True)
        self.assertEqual(self.ok("agent", "remove")["started_by"], "nothing")
        self.assertEqual(list(entry.parent.iterdir()), [])
        unit = self.folder / "good-tide-agent.service"
        unit.write_text(unit_text(["/bin/echo", "a word", "100%"]))
        found = subprocess.run(
            ["systemd-analyze", "verify", "--user", str(unit)], capture_output=True, text=True, check=False
        )
        self.assertEqual(
            (found.returncode, [line for line in found.stderr.splitlines() if unit.name in line]),
            (0, []),
            found.stderr,
        )
        self.assertIn("Exec=/bin/echo 'a b'", autostart_text(["/bin/echo", "a b"]))
