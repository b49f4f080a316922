"""Reports on how jobs stand, for machines that nobody sits at; and the journal written out. Plain text, HTML,
CSV, JSON."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from datetime import timedelta
from pathlib import Path
from typing import Any

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.happenings import Event, Filter, Run
from good_tide.core.settings import Job
from good_tide.core.standing import JobStanding, StoreStanding
from good_tide.core.translation import tr
from good_tide.core.words import count_words, exact_words, iso, local, printable, size_words, time_words
from good_tide.operations.records.journal import Journal

_DAYS = {"daily": 7, "weekly": 14, "trouble": 7, "never": 14}
_MOST_LEFT_OUT, _MOST_EVENTS = 20, 100
_BAR = 24
_TEMPLATES = "templates"
"""A folder of this name in the settings folder may hold templates that take the place of those that come with
the program."""


class Report(msgspec.Struct, frozen=True):
    """A report that can be sent: a subject line, plain text, and HTML."""

    subject: str
    text: str
    html: str


class ReportPart(msgspec.Struct, frozen=True):
    """What a report is about: a job, how it stands, and the journal's name for what happened."""

    job: Job
    standing: JobStanding


def report(parts: Sequence[ReportPart], journal: Journal, machine: str, now: int, settings: Path) -> Report:
    """The report on some jobs.

    Raises:
        PersonError: a template in the settings folder cannot be used.
    """
    trouble = sum(len(part.standing.status.trouble) for part in parts)
    title = (
        f"{machine}: {count_words(trouble, 'trouble')}"
        if trouble
        else tr("{machine}: all is well").format(machine=machine)
    )
    values = {
        "title": title,
        "machine": machine,
        "when": exact_words(now),
        "full": any(part.job.reporting.full for part in parts),
        "parts": [_part(part, journal, now) for part in parts],
    }
    return Report(
        title, _rendered("report.txt.j2", values, settings), _rendered("report.html.j2", values, settings)
    )


def _rendered(template: str, values: dict[str, Any], settings: Path) -> str:
    import jinja2  # loads slowly; only a report needs it

    loader = jinja2.ChoiceLoader(
        [jinja2.FileSystemLoader(settings / _TEMPLATES), jinja2.PackageLoader("good_tide", _TEMPLATES)]
    )
    made = jinja2.Environment(
        loader=loader,
        autoescape=jinja2.select_autoescape(("html", "html.j2")),
        trim_blocks=True,
        lstrip_blocks=True,
        undefined=jinja2.StrictUndefined,
    )
    try:
        return made.get_template(template).render(values)
    except (jinja2.TemplateError, UnicodeDecodeError) as error:
        raise PersonError(
            tr("The template {template} cannot be used ({error})").format(template=template, error=error),
            tr("Correct it in {settings}, or remove it").format(settings=settings / _TEMPLATES),
        ) from error


def _part(part: ReportPart, journal: Journal, now: int) -> dict[str, Any]:
    count = _DAYS[part.job.reporting.when]
    first = local(now).replace(hour=0, minute=0, second=0, microsecond=0) - timedelta(days=count - 1)
    since = int(first.timestamp()) * SECOND
    runs = journal.runs(part.job.id, since)
    status = part.standing.status
    return {
        "job": part.job.name,
        "sentence": status.sentence,
        "detail": status.detail,
        "troubles": [
            {"since": time_words(one.since, now), "what": one.what.rstrip("."), "todo": one.todo.rstrip(".")}
            for one in status.trouble
        ],
        "summary": _summary(runs),
        "days": _days(runs, [first + timedelta(days=day) for day in range(count)]),
        "stores": [{"name": store.name, "words": _store_words(store, now)} for store in part.standing.stores],
        "left_out": [
            f"{printable(one.path)}: {one.detail}" for one in journal.left_out(part.job.id)[:_MOST_LEFT_OUT]
        ],
        "events": [
            {"time": time_words(event.time, now), "what": event.what + ".", "todo": event.todo}
            for event in journal.events(Filter(job=part.job.id, since=since, most=_MOST_EVENTS))
        ],
    }


def _summary(runs: Sequence[Run]) -> str:
    done = [run for run in runs if run.snapshot]
    words = [
        count_words(len(done), "snapshot"),
        "{sum}".format(sum=count_words(sum(run.changed for run in done), "changed file")),
    ]
    words.append(tr("{sum} new").format(sum=size_words(sum(run.new_bytes for run in done))))
    failed = sum(run.result == "failed" for run in runs)
    if failed:
        words.append(tr("{failed} failed").format(failed=count_words(failed, "try", "tries")))
    return ", ".join(words)


def _days(runs: Sequence[Run], days: Sequence[Any]) -> list[dict[str, Any]]:
    """One line of the picture a day."""
    by_day: dict[Any, list[Run]] = {}
    for run in runs:
        by_day.setdefault(local(run.began).date(), []).append(run)
    peak = max((sum(run.new_bytes for run in found) for found in by_day.values()), default=0) or 1
    lines = []
    for day in days:
        found = by_day.get(day.date(), [])
        done, new = [run for run in found if run.snapshot], sum(run.new_bytes for run in found)
        part = (new / peak) ** 0.5
        failed, gaps = sum(run.result == "failed" for run in found), sum(run.gaps for run in found)
        words = f"{count_words(len(done), 'snapshot')}, {size_words(new)}" if done else tr("no snapshot")
        words += (
            ", " + tr("{failed} failed").format(failed=failed)
            if failed
            else f", {count_words(gaps, 'gap')}"
            if gaps
            else ""
        )
        lines.append(
            {
                "name": f"{day:%a} {day.day} {day:%b}",
                "bar": round(part * _BAR),
                "percent": round(100 * part),
                "words": words,
                "failed": failed and not done,
                "gaps": gaps,
            }
        )
    return lines


def _store_words(store: StoreStanding, now: int) -> str:
    words = _place_words(store)
    if store.last:
        words += ", " + tr("last snapshot {last}").format(last=time_words(store.last, now))
    return f"{words}. {store.proven}".rstrip(". ") + "."


def _place_words(store: StoreStanding) -> str:
    if not store.present:
        return "away"
    if store.free is None:
        return "here"
    full = (
        ", " + tr("full in about {max}").format(max=count_words(max(1, round(store.full_in_days)), "day"))
        if store.full_in_days is not None and store.full_in_days < 90
        else ""
    )
    return tr("here, {free} free{full}").format(free=size_words(store.free), full=full)


def write_report(made: Report, file: Path) -> None:
    """Write a report into a file: HTML, or plain text for a name that ends with ``.txt``.

    Raises:
        PlaceError: it cannot be written.
    """
    _write(file, made.text if file.suffix == ".txt" else made.html)


def _write(file: Path, text: str) -> None:
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        new = file.with_name(f".{file.name}.new")
        new.write_text(text, encoding="utf-8")
        new.replace(file)
    except OSError as error:
        raise PlaceError(
            tr("{file} cannot be written ({strerror})").format(file=file, strerror=error.strerror),
            tr("Choose another folder"),
        ) from error


def export_journal(
    events: Sequence[Event], runs: Sequence[Run], file: Path, machine: str, now: int, settings: Path
) -> None:
    """Write events and runs out: ``.csv``, ``.json`` or ``.html``, by the file's name.

    Raises:
        PersonError: the name ends otherwise.
        PlaceError: it cannot be written.
    """
    if file.suffix == ".csv":
        _write(file, _csv(events, runs))
    elif file.suffix == ".json":
        plain = {"events": [event_fields(event) for event in events], "runs": [_run(run) for run in runs]}
        _write(file, msgspec.json.format(msgspec.json.encode(plain), indent=2).decode())
    elif file.suffix == ".html":
        values = {
            "machine": machine,
            "when": exact_words(now),
            "events": [event_fields(event) for event in events],
            "runs": [_run(run) for run in runs],
        }
        _write(file, _rendered("journal.html.j2", values, settings))
    else:
        raise PersonError(
            tr("{name} says no form").format(name=file.name), tr("Let the name end with .csv, .json or .html")
        )


def event_fields(event: Event) -> dict[str, Any]:
    """An event as it is printed and exported: with the job's name, and its time as text."""
    fields = {**msgspec.to_builtins(event), "time": iso(event.time), "job": event.name}
    del fields["name"]
    return fields


def run_fields(run: Run) -> dict[str, Any]:
    """A run as it is printed and exported."""
    fields = {**msgspec.to_builtins(run), "began": iso(run.began), "job": run.name}
    del fields["name"]
    return fields


def _run(run: Run) -> dict[str, Any]:
    return {**run_fields(run), "seconds": round(run.seconds, 1)}


def _csv(events: Sequence[Event], runs: Sequence[Run]) -> str:
    """RFC 4180, one line an event or a run, in the order of time."""
    out = io.StringIO()
    columns = (
        "time",
        "kind",
        "level",
        "job",
        "what",
        "means",
        "todo",
        "detail",
        "store",
        "seconds",
        "changed",
        "new_bytes",
        "stored",
        "gaps",
        "snapshot",
    )
    made = csv.DictWriter(out, columns, restval="")
    made.writeheader()
    rows: list[dict[str, Any]] = [
        {
            "time": iso(event.time),
            "kind": "event",
            "level": event.level,
            "job": event.name,
            "what": event.what,
            "means": event.means,
            "todo": event.todo,
            "detail": " | ".join(event.detail),
        }
        for event in events
    ]
    rows += [
        {
            "time": iso(run.began),
            "kind": "run",
            "level": run.result,
            "job": run.name,
            "what": run.words,
            "store": run.store,
            "seconds": round(run.seconds, 1),
            "changed": run.changed,
            "new_bytes": run.new_bytes,
            "stored": run.stored,
            "gaps": run.gaps,
            "snapshot": run.snapshot,
        }
        for run in runs
    ]
    made.writerows(sorted(rows, key=lambda row: str(row["time"])))
    return out.getvalue()
