"""The journal, reports, mail, the watch from afar, and the commands that tell."""

from __future__ import annotations

import email
import email.policy
import ssl
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
from good_tide.core.happenings import Filter, Result, Run
from good_tide.core.identifiers import Nanoseconds, SnapshotId
from good_tide.core.job_facts import JobFacts, StoreState
from good_tide.core.settings import Job, MailServer, Reporting
from good_tide.core.standing import JobStanding, StoreStanding
from good_tide.core.status import status
from good_tide.core.words import local
from good_tide.operations.reporting.post import Post
from good_tide.operations.reporting.report import ReportPart, report
from good_tide.system.keyrings import StandInKeyRing
from good_tide.system.mail_server import load_mail_server, save_mail_server
from good_tide.system.mailing import send
from good_tide.system.stand_in_mail import StandInMail
from tests.support.base import (
    HOUR,
    OFFICE,
    T0,
    GoodTideTest,
)

DAY = 24 * HOUR


JOB = Job(id=OFFICE, name="Office", folders=(), stores=())


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
