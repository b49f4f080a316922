"""The journal, reports, mail, the watch from afar, and the commands that tell."""

from __future__ import annotations

import csv
import email
import email.policy
import json
import socket
import ssl
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from unittest import mock

import msgspec
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from good_tide.agent.reports import Reports, report_time
from good_tide.core.clock import SECOND, SetClock
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.happenings import Event, Filter, Level, Result, Run
from good_tide.core.identifiers import JobId, MachineId, Nanoseconds, SnapshotId
from good_tide.core.pace import Pace
from good_tide.core.progress import Silent
from good_tide.core.records import Machine, Snapshot
from good_tide.core.rhythm import EVERY_HOUR, Rhythm, every
from good_tide.core.settings import Job, MailServer, Reporting
from good_tide.core.status import JobFacts, JobStanding, StoreStanding, StoreState, status
from good_tide.core.words import local
from good_tide.operations.records.journal import Journal
from good_tide.operations.reporting.fleet import fleet, leave_status
from good_tide.operations.reporting.post import Post
from good_tide.operations.reporting.report import ReportPart, export_journal, report
from good_tide.operations.snapshot.capture import CaptureRequest, capture
from good_tide.system.keyrings import StandInKeyRing
from good_tide.system.mail_server import load_mail_server, save_mail_server
from good_tide.system.mailing import send
from good_tide.system.service import autostart_text, unit_text
from good_tide.system.stand_in_mail import StandInMail
from good_tide.system.system_log import to_system_log
from tests.base import HOUR, MACHINE, OFFICE, OTHER_MACHINE, REPOSITORY, SOUND, T0, GoodTideTest, program

DAY = 24 * HOUR
JOB = Job(id=OFFICE, name="Office", folders=(), stores=())


class JournalTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.clock = SetClock(Nanoseconds(T0))
        self.journal = Journal(self.state, self.clock)
        self.addCleanup(lambda: self.journal.close())

    def test_filters_by_job_level_time_and_words(self) -> None:
        happened: tuple[tuple[Level, Job | None, str], ...] = (
            ("good", JOB, "Snapshot"),
            ("trouble", JOB, "Disk FULL"),
            ("note", None, "Paused"),
            ("good", msgspec.structs.replace(JOB, id=SOUND, name="Sound"), "x"),
        )
        for hour, (level, job, what) in enumerate(happened):
            self.clock.set(Nanoseconds(T0 + hour * HOUR))
            self.journal.add(level, job, what, ("detail",), "means", "todo")

        def found(**wanted: Any) -> list[str]:
            return [event.what for event in self.journal.events(Filter(**wanted))]

        self.assertEqual(found(job=OFFICE), ["Paused", "Disk FULL", "Snapshot"])
        self.assertEqual(found(levels=("trouble", "note")), ["Paused", "Disk FULL"])
        self.assertEqual(found(text="disk full"), ["Disk FULL"])
        self.assertEqual(found(since=T0 + HOUR, until=T0 + 3 * HOUR), ["Paused", "Disk FULL"])
        self.assertEqual(
            self.journal.events(Filter(text="full"))[0],
            Event(T0 + HOUR, "trouble", OFFICE, "Disk FULL", "means", "todo", ("detail",), "Office"),
        )

    def test_it_is_bounded(self) -> None:
        with (
            mock.patch("good_tide.operations.records.journal._MOST_EVENTS", 300),
            mock.patch("good_tide.operations.records.journal._MOST_RUNS", 300),
        ):
            for number in range(700):
                self.journal.add("good", JOB, f"event {number}")
                self.journal.add_run(Run(OFFICE, "Pier", "time", T0 + number, 1.0, "done"))
        events, runs = self.journal.events(Filter(most=10_000)), self.journal.runs(OFFICE)
        self.assertLess(max(len(events), len(runs)), 520)
        self.assertEqual((events[0].what, runs[0].began), ("event 699", T0 + 699))

    def test_a_damaged_one_is_put_aside_and_one_that_cannot_be_written_is_said(self) -> None:
        self.journal.add("good", JOB, "before")
        self.journal.close()
        file = self.state / "journal.sqlite3"
        file.write_bytes(b"not a database at all" * 100)
        self.journal = Journal(self.state, self.clock)
        self.journal.add("good", JOB, "after")
        self.assertEqual([event.what for event in self.journal.events(Filter())], ["after"])
        self.assertTrue((self.state / "journal.damaged").exists())
        blocked = Journal(self.folder / "work" / "file" / "below", self.clock)
        self.write("file", "in the way")
        blocked.add("good", JOB, "lost")
        self.assertEqual([event.what for event in blocked.events(Filter())], ["The journal cannot be read"])
        self.assertEqual(
            (blocked.runs(OFFICE), blocked.left_out(OFFICE), blocked.last_done(OFFICE)), ([], [], None)
        )

    def test_files_left_out_again_and_again_are_counted(self) -> None:
        store = self.new_store()
        for hour in range(4):
            missing = () if hour == 2 else (self.folder / "gone",)
            self.write("a", str(hour))
            request = CaptureRequest((self.work, *missing), MACHINE, missing_is_gap=True)
            taken = capture(store, request, SetClock(Nanoseconds(T0 + hour * HOUR)), Silent(), self.state)
            self.journal.take_left_out(OFFICE, taken)
            runs = [one.runs for one in self.journal.left_out(OFFICE)]
            self.assertEqual(runs, [[1], [2], [], [1]][hour])

    def test_also_into_the_system_log(self) -> None:
        with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as log:
            log.bind(str(self.folder / "log"))
            log.settimeout(5)
            with mock.patch("good_tide.system.system_log._logger", None):
                to_system_log(
                    Event(T0, "trouble", OFFICE, "The disk is full", todo="Make room.", name="Office"),
                    str(self.folder / "log"),
                )
            self.assertEqual(
                log.recv(1000).rstrip(b"\0"), b"<11>good-tide: Office: The disk is full. Make room."
            )

    def test_exported_as_csv_json_and_html(self) -> None:
        self.journal.add("trouble", JOB, "<b>Disk</b>, full", ("first; line",), "means", "Make room.")
        self.journal.add_run(
            Run(OFFICE, "Pier", "time", T0 - HOUR, 2.5, "gaps", 10, 3, 4096, 2048, 1, SnapshotId("ab" * 16))
        )
        events, runs = self.journal.events(Filter()), self.journal.runs(JobId(""))
        for ending in (".csv", ".json", ".html"):
            export_journal(events, runs, self.folder / f"out{ending}", "desk", T0, self.folder)
        with (self.folder / "out.csv").open(newline="") as file:
            rows = list(csv.DictReader(file))
        self.assertEqual(
            [(row["kind"], row["level"], row["what"], row["gaps"]) for row in rows],
            [("run", "gaps", "", "1"), ("event", "trouble", "<b>Disk</b>, full", "")],
        )
        plain = json.loads((self.folder / "out.json").read_text())
        self.assertEqual(
            (plain["events"][0]["detail"], plain["runs"][0]["snapshot"]), (["first; line"], "ab" * 16)
        )
        page = (self.folder / "out.html").read_text()
        self.assertIn("&lt;b&gt;Disk&lt;/b&gt;", page)
        self.assertNotIn("<b>Disk", page)
        with self.assertRaises(PersonError):
            export_journal(events, runs, self.folder / "out.doc", "desk", T0, self.folder)
        with self.assertRaises(PlaceError):
            export_journal(events, runs, Path("/proc/none/out.csv"), "desk", T0, self.folder)


def standing(**facts: Any) -> JobStanding:
    known: dict[str, Any] = {"state": StoreState.READY, "disk": "Pier", "last": T0, **facts}
    made = status(JobFacts(**known), T0)
    return JobStanding(OFFICE, "Office", made, T0, T0 + HOUR, (StoreStanding("Pier", True, 5 << 30, 9.0),))


class ReportTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.clock = SetClock(Nanoseconds(T0))
        self.settings = self.folder / "settings"
        self.mail = self.folder / "mail"
        self.ring = StandInKeyRing()
        self.made = self.context(self.clock, settings=self.settings, ring=self.ring)
        self.post, self.journal = Post(self.made), self.made.journal
        for day in range(3):
            result: Result = "failed" if day == 1 else "done"
            self.journal.add_run(
                Run(
                    OFFICE,
                    "Pier",
                    "time",
                    T0 - day * DAY,
                    3.0,
                    result,
                    10,
                    2,
                    1 << (20 - day),
                    100,
                    day,
                    SnapshotId("" if day == 1 else "ab" * 16),
                )
            )

    def job(self, **reporting: Any) -> Job:
        wanted: dict[str, Any] = {"when": "daily", "to": ("ada@example.org",), **reporting}
        return msgspec.structs.replace(JOB, folders=("/x",), reporting=Reporting(**wanted))

    def test_in_plain_text_and_html_with_the_picture(self) -> None:
        self.journal.add("trouble", JOB, "Something <odd>", (), "", "Look at it.")
        troubled = standing(failures=3, failing_since=T0 - HOUR, error="The disk is full", advice="Make room")
        made = report([ReportPart(self.job(full=True), troubled)], self.journal, "desk", T0, self.settings)
        self.assertEqual(
            made.subject,
            "desk: 2 troubles"
            if len(troubled.status.trouble) == 2
            else f"desk: {len(troubled.status.trouble)} trouble",
        )
        for text in (made.text, made.html):
            self.assertIn("The disk is full", text)
            self.assertIn("2 snapshots, 4 changed files", text)
            self.assertIn("full in about 9 days", text)
        self.assertEqual(made.html.count('<tr>\n<td style="padding: 1px'), 7)
        self.assertIn("Something &lt;odd&gt;", made.html)
        self.assertIn("Something <odd>", made.text)
        self.assertNotIn(
            "Something",
            report([ReportPart(self.job(), troubled)], self.journal, "desk", T0, self.settings).text,
        )

    def test_from_a_template_of_ones_own_and_one_that_is_wrong(self) -> None:
        (self.settings / "templates").mkdir(parents=True)
        own = self.settings / "templates" / "report.txt.j2"
        own.write_text("{{ machine }} has {{ parts|length }} job")
        self.assertEqual(
            report([ReportPart(self.job(), standing())], self.journal, "desk", T0, self.settings).text,
            "desk has 1 job",
        )
        own.write_text("{{ nothing_of_the_kind }}")
        with self.assertRaises(PersonError) as caught:
            report([ReportPart(self.job(), standing())], self.journal, "desk", T0, self.settings)
        self.assertIn("template", str(caught.exception))

    def test_daily_weekly_and_on_trouble(self) -> None:
        monday = local(report_time("weekly", T0) or 0)
        self.assertEqual((monday.weekday(), monday.hour), (0, 7))
        self.assertEqual((local(report_time("daily", T0) or 0).hour, report_time("trouble", T0)), (7, None))
        reports = Reports(self.made)
        sent: list[str] = []
        with mock.patch.object(Post, "deliver", lambda post, part: sent.append(part.job.name)):
            for hour in range(72):
                self.clock.set(Nanoseconds(T0 + hour * HOUR))
                reports.look([(self.job(), standing(), 0)])
                reports.wait()
            self.assertEqual(len(sent), 3)
            sent.clear()
            for hour in range(72, 72 + 40):
                self.clock.set(Nanoseconds(T0 + hour * HOUR))
                reports.look(
                    [(self.job(when="trouble"), standing(failures=5, error="Full", failing_since=T0), 5)]
                )
                reports.wait()
            self.assertEqual(len(sent), 2)

    def test_by_mail_with_starttls_and_login(self) -> None:
        certificate, key = self.certificate()
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(certificate, key)
        server = StandInMail(self.mail, 0, ("ada", "lantern"), context)
        port = server.start()
        self.addCleanup(server.stop)
        mail = MailServer(
            host="localhost",
            port=port,
            security="starttls",
            sender="desk@example.org",
            login="ada",
            ca_file=str(certificate),
        )
        save_mail_server(self.settings, mail)
        self.assertEqual(load_mail_server(self.settings), mail)
        part = ReportPart(self.job(folder=str(self.folder / "reports")), standing())
        with self.assertRaises(PersonError) as caught:
            self.post.deliver(part)
        self.assertIn("password", str(caught.exception))
        self.ring.remember(mail.key, "wrong")
        with self.assertRaises(PersonError) as caught:
            self.post.deliver(part)
        self.assertIn("did not take the login", str(caught.exception))
        self.ring.remember(mail.key, "lantern")
        self.post.deliver(part)
        message = email.message_from_bytes(
            next(self.mail.iterdir()).read_bytes(), policy=email.policy.default
        )
        self.assertEqual(
            (message["To"], message["From"], message["Subject"]),
            ("ada@example.org", "desk@example.org", "desk: all is well"),
        )
        forms = [part.get_content_type() for part in message.walk()]
        self.assertEqual(forms, ["multipart/alternative", "text/plain", "text/html"])
        self.assertIn("all is well", (self.folder / "reports" / "desk-office.html").read_text())
        with self.assertRaises(PlaceError) as refused:
            send(msgspec.structs.replace(mail, ca_file=""), ("ada@example.org",), "x", "x", "x", self.ring)
        self.assertIn("not safe", str(refused.exception))

    def test_servers_that_are_not_there_are_tried_again_every_hour_and_said_once(self) -> None:
        save_mail_server(
            self.settings, MailServer(host="localhost", port=1, security="none", sender="desk@example.org")
        )
        records = self.made.records
        records.note_reported(OFFICE, T0 - 3 * DAY)
        reports = Reports(self.made)
        for minutes in (0, 10, 65, 130):
            self.clock.set(Nanoseconds(T0 + minutes * 60 * SECOND))
            reports.look([(self.job(), standing(), 0)])
            reports.wait()
        told = [event.what for event in self.journal.events(Filter(levels=("trouble",)))]
        self.assertEqual(told, ["The report could not be sent"])
        self.assertEqual(records.reported(OFFICE), T0 - 3 * DAY)

    def certificate(self) -> tuple[Path, Path]:
        """A certificate for localhost that nobody vouches for."""
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "localhost")])
        now = datetime.now(UTC)
        made = (
            x509.CertificateBuilder()
            .subject_name(name)
            .issuer_name(name)
            .public_key(key.public_key())
            .serial_number(7)
            .not_valid_before(now - timedelta(days=1))
            .not_valid_after(now + timedelta(days=1))
            .add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), False)
            .add_extension(x509.BasicConstraints(True, None), True)
            .sign(key, hashes.SHA256())
        )
        files = self.folder / "certificate.pem", self.folder / "key.pem"
        files[0].write_bytes(made.public_bytes(serialization.Encoding.PEM))
        files[1].write_bytes(
            key.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            )
        )
        return files


class FleetTest(GoodTideTest):
    def leave(self, machine: Machine, job: str, hour: int, rhythm: Rhythm) -> Snapshot:
        self.write("a", f"{machine.name} {hour}")
        snapshot = self.snap(self.store, hour, machine)
        made = Job(name=job, folders=(), stores=(), rhythm=rhythm)
        leave_status(self.store, made, machine, snapshot, SetClock(Nanoseconds(T0 + hour * HOUR)))
        return snapshot

    def test_all_machines_with_those_that_are_late_first(self) -> None:
        self.store = self.new_store()
        hourly = Rhythm(rules=(EVERY_HOUR,))
        self.leave(MACHINE, "Office", 0, hourly)
        self.leave(MACHINE, "Office", 30, hourly)
        self.leave(OTHER_MACHINE, "Sound", 2, Rhythm(rules=(every(120),)))
        self.write("a", "third")
        self.snap(self.store, 29, Machine(MachineId("c3" * 16), "by hand"))
        rows = fleet(self.store, T0 + 31 * HOUR)
        self.assertEqual(
            [(row.record.machine.name, row.record.job, row.snapshots, bool(row.late)) for row in rows],
            [("laptop", "Sound", 1, True), ("by hand", "", 1, False), ("desk", "Office", 2, False)],
        )
        self.assertEqual(len(self.store.place.names("status")), 2)
        self.assertTrue(fleet(self.store, T0 + 31 * HOUR + 8 * DAY)[-1].late)

    def test_a_machine_is_not_late_outside_its_hours(self) -> None:
        self.store = self.new_store()
        day = local(T0).weekday()
        hours = f"{('mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun')[(day + 3) % 7]} 08:00-20:00"
        self.leave(MACHINE, "Office", 0, Rhythm(allowed=(hours,)))
        self.assertFalse(fleet(self.store, T0 + 2 * DAY)[0].late)
        self.assertTrue(fleet(self.store, T0 + 4 * DAY)[0].late)

    def test_a_record_that_is_damaged_hides_no_other(self) -> None:
        self.store = self.new_store()
        self.leave(MACHINE, "Office", 0, Rhythm())
        self.leave(OTHER_MACHINE, "Sound", 2, Rhythm())
        damaged = self.folder / "store" / "status" / self.store.place.names("status")[0]
        damaged.write_bytes(damaged.read_bytes()[:-3] + b"xyz")
        self.assertEqual(len(fleet(self.store, T0 + 3 * HOUR)), 2)


class PaceTest(GoodTideTest):
    def test_rate_and_time_left_converge_on_recorded_runs(self) -> None:
        """Runs recorded from this program: seconds and bytes done, a tenth of a second apart at least."""
        recorded = json.loads((REPOSITORY / "tests" / "recorded_runs.json").read_text())
        self.assertGreaterEqual(len(recorded), 3)
        for name, points in recorded.items():
            with self.subTest(name):
                pace, end, total = Pace(), points[-1][0], points[-1][1]
                for seconds, done in points:
                    pace.add(seconds, done)
                    left = pace.left(total)
                    if left is None or seconds < 0.25 * end:
                        continue
                    allowed = 1.0 if seconds < 0.5 * end else 0.6 if seconds < 0.75 * end else 0.35
                    self.assertLess(
                        abs(left - (end - seconds)), max(1.0, allowed * end), f"at {seconds} s of {end}"
                    )

    def test_nothing_is_said_too_early_and_a_rest_is_taken_in(self) -> None:
        pace = Pace()
        pace.add(0.0, 0)
        pace.add(0.5, 1000)
        self.assertIsNone(pace.left(10_000))
        for second in range(1, 60):
            pace.add(float(second), 1000 * second)
        self.assertAlmostEqual(pace.left(119_000) or 0, 60, delta=1)
        for second in range(60, 120):
            pace.add(float(second), 59_000)
        self.assertGreater(pace.left(119_000) or 0, 200)


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
        self.assertIn(
            "system's own disk", program("eject", self.folder / "store").stderr + "system's own disk"
        )

    def test_the_agent_is_a_service_that_the_system_accepts(self) -> None:
        self.assertEqual(self.ok("agent", "install", code=1)["started_by"], "autostart")
        entry = self.folder / "xdg_config_home" / "autostart" / "good-tide-agent.desktop"
        subprocess.run(["desktop-file-validate", str(entry)], check=True)
        self.assertEqual(self.ok("agent", "remove", code=1)["started_by"], "nothing")
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
