"""Painting the views of the window into PNG files, without a display."""

from __future__ import annotations

import os
import random
import sys
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtGui import QPainter, QPixmap
from PySide6.QtWidgets import QFrame

from good_tide.core.clock import SECOND
from good_tide.core.job_facts import JobFacts, StoreState
from good_tide.core.planning import Wait
from good_tide.core.progress import WorkKind
from good_tide.core.status import status
from good_tide.desktop.shell.application import make_application
from good_tide.desktop.shell.views import VIEWS
from good_tide.desktop.shell.window import MainWindow
from good_tide.desktop.view import PathOffer
from good_tide.operations.workplace import load_jobs, this_workplace
from good_tide.protocol.restore_calls import PickedItem
from good_tide.protocol.schedule_calls import TakeSnapshot
from good_tide.protocol.sockets import agent_socket
from tools.window_driver import Views, settle, wait_until

_TAKES = (StoreState.READY, StoreState.EMPTY, StoreState.REPLACED)


def socket_of(settings: Path) -> Path:
    """The socket of the agent that serves the jobs in a settings folder."""
    return agent_socket(this_workplace().runtime, settings)


def render_views(socket: Path, settings: Path, folder: Path, theme: str = "") -> list[Path]:
    """Paint the main views into PNG files, from the live window with the agent behind it.

    Raises:
        RuntimeError: the agent did not answer in time.
    """
    window, views = _with_history(socket, settings, theme)
    folder.mkdir(parents=True, exist_ok=True)
    made = []

    def shoot(name: str) -> None:
        settle()
        file = folder / f"{name}.png"
        window.grab().save(str(file))
        made.append(file)

    place = views.timeline
    winter = (
        next(line.name for line in place.model._views[b""] if line.name.endswith(b"Productions"))
        + b"/Winter play"
    )
    office = winter.replace(b"Productions/Winter play", b"Office")
    _enter(views, office + b"/Budgets")
    place.model.step_change(forward=False)
    _choose(window, views, office + b"/Budgets/winter play budget.csv", place.model.moment)
    budget = place.model.row_of(place.model.selected)
    if budget is not None and len(budget.line.spans) > 1:
        before = budget.line.spans[-2].last or 1
        place.go(before)
        wait_detail(window)
        place.inspector._modes.button(1).click()
        wait_until(lambda: not window.link.waits)
    shoot("timeline-budget")
    point = place.model.tide[place.model.moment - 1]
    place.plan([PickedItem(b"", point.name, point.time)])
    assert place.dialog is not None
    dialog = place.dialog
    wait_until(lambda: dialog.plan is not None)
    for number in range(dialog.items.topLevelItemCount()):
        row = dialog.items.topLevelItem(number)
        assert row is not None
        row.setExpanded(True)
        wait_until(lambda: not window.link.waits)
    settle()
    dialog.grab().save(str(folder / "restore-plan.png"))
    made.append(folder / "restore-plan.png")
    dialog.reject()
    _see(window, views, office + b"/Letters/guest director contract.odt", shoot)
    _find_and_compare(window, views, shoot)
    for kind in VIEWS[1:]:
        name = kind.title
        window.show_view(kind)
        wait_until(lambda: not window.link.waits)
        if name == "Coverage":
            _coverage(window, views, shoot)
            continue
        if name == "Rhythm":
            wait_until(lambda: views.rhythm.view is not None)
        shoot(name.lower())
        if name == "Rhythm":
            views.rhythm.ladder.choose("usual")
            views.rhythm.show_below()
            wait_until(lambda: "up to" not in views.rhythm.ladder.words.text())
            shoot("ladder")
        if name == "Stores":
            _room(window, views, shoot)
    window.close()
    return made


def _see(window: MainWindow, views: Views, path: bytes, shoot: Callable[[str], None]) -> None:
    """A document beside the version before it, and which versions say something."""
    place = views.timeline
    place.sides.setSizes([520, 700])
    _enter(views, os.path.dirname(path))
    place.go(len(place.model.tide))
    place.select(path)
    wait_until(lambda: not window.link.waits and not place.pane.settle.isActive())
    place.inspector._modes.button(2).click()
    place.inspector.phrase.setText("fee is 120")
    place.inspector._look_for()
    wait_until(lambda: not window.link.waits)
    shoot("seeing")
    place.inspector.phrase.clear()
    place.sides.setSizes([10_000, 320])


def _find_and_compare(window: MainWindow, views: Views, shoot: Callable[[str], None]) -> None:
    """What is found in all of history; and what differs between two marks."""
    place = views.timeline
    place.search.field.setText("budget")
    wait_until(lambda: place.model.found is not None and not window.link.waits)
    place.search.lead_in.emit()
    shoot("finding")
    place.search.end()
    place.look_at(PathOffer(b"", True, missing=True))
    wait_until(lambda: place.model.found is not None and not window.link.waits)
    wait_until(lambda: not place.pane.settle.isActive() and not window.link.waits)
    shoot("missing")
    place.finding.end()
    place.enter(b"")
    flood = min(place.model.floods, default=len(place.model.tide))
    place.go(max(1, flood - 40))
    place.mark(flood)
    wait_until(lambda: not window.link.waits and not place.pane.settle.isActive())
    place.pane.folder.tree.expandAll()
    shoot("two-marks")
    place.mark(place.model.moment)


def _with_history(socket: Path, settings: Path, theme: str) -> tuple[MainWindow, Views]:
    """The window, once it shows history."""
    _, look = make_application(theme)
    window = MainWindow(look, socket, settings)
    views = Views(window)
    window.show()
    window.start()
    wait_until(lambda: window.overview.state is StoreState.READY and not views.timeline.model.missing_views())
    return window, views


def _room(window: MainWindow, views: Views, shoot: Callable[[str], None]) -> None:
    """What takes the room of a store, with a stretch of time chosen and something looked for in all of
    history; and the machines that use it."""
    page = views.stores.room_page
    views.stores.cards[0].what.click()
    wait_until(lambda: bool(page.picture.snapshots))
    names = [one.id for one in page.picture.snapshots]
    page.picture.choose(names[len(names) // 3 : len(names) // 2])
    page.pattern.setText("*.wav")
    page.look.click()
    wait_until(lambda: page.out.isEnabled() and "gives back" in page.words.text() and not window.link.waits)
    shoot("stores-room")
    page.back.click()
    views.stores.show_fleet(views.stores.cards[0].view)
    wait_until(lambda: bool(views.stores.fleet_page.machines) and not window.link.waits)
    shoot("stores-fleet")
    views.stores.fleet_page.back.click()


def render_harm(socket: Path, settings: Path, folder: Path, theme: str = "") -> None:
    """Paint the afternoon of noise, and a damaged store, after bringing both about."""
    job = load_jobs(settings)[0]
    window, views = _with_history(socket, settings, theme)
    rng = random.Random(4)
    for file in [one for one in Path(job.folders[0]).rglob("*") if one.is_file() and not one.is_symlink()]:
        file.write_bytes(rng.randbytes(file.stat().st_size))
        file.rename(file.with_name(f"{file.name}.locked"))
    window.link.ask(TakeSnapshot(window.link.job))
    wait_until(lambda: window.alarm.isVisible() and window.state.work is None and not window.link.waits)
    wait_until(lambda: not views.timeline.model.missing_views())
    settle()
    window.grab().save(str(folder / "alarm.png"))
    packs = sorted((Path(job.stores[0].path) / "packs").rglob("*"), key=lambda one: -one.stat().st_size)
    packs = [one for one in packs if one.is_file()]
    spoilt = bytearray(packs[1].read_bytes())
    spoilt[9000:9800] = bytes(800)
    packs[1].write_bytes(spoilt)
    for one in packs[8:20]:
        one.write_bytes(rng.randbytes(one.stat().st_size))
    window.show_view(next(kind for kind in VIEWS if kind.title == "Stores"))
    wait_until(lambda: not window.link.waits)
    views.stores.cards[0].well.click()
    page = views.stores.health_page
    wait_until(lambda: page.view is not None)
    page.prove.click()
    wait_until(lambda: "trial" in window.notice.text and window.state.work is None)
    page.ask()
    wait_until(lambda: not window.link.waits)
    view = page.view
    assert view is not None
    page.picture._pick(next(place for place, one in enumerate(view.packs) if one.state == "lost"))
    settle()
    window.grab().save(str(folder / "stores-health.png"))
    window.close()


def _coverage(window: MainWindow, views: Views, shoot: Callable[[str], None]) -> None:
    """Coverage with a rule being weighed."""
    place = views.coverage
    wait_until(lambda: place.survey is not None and place.survey.done)
    place.rules.add_line("exclude kind sound")
    wait_until(lambda: place.keep.isEnabled() and not window.link.waits and not place._timer.isActive())
    shoot("coverage")
    place.discard.click()
    wait_until(lambda: not window.link.waits)


def render_set_up(socket: Path, settings: Path, folder: Path, theme: str = "") -> list[Path]:
    """Paint the set-up of a machine without a job into PNG files, and carry it out with what is proposed."""
    _, look = make_application(theme)
    window = MainWindow(look, socket, settings)
    window.show()
    window.start()
    page = window.set_up
    wait_until(
        lambda: (
            page.survey is not None
            and page.survey.done
            and page.place.examined is not None
            and not window.link.waits
        )
    )
    page.secrecy.take_proposal()
    wait_until(lambda: page.begin.isEnabled() and page.secrecy.bar.score > 0)
    made = []
    for name in ("set-up", "recovery-key"):
        settle()
        made.append(folder / f"{name}.png")
        window.grab().save(str(made[-1]))
        if name == "set-up":
            page.begin.click()
            wait_until(
                lambda: (
                    window.recovery.isVisibleTo(window)
                    and window.overview.state is StoreState.READY
                    and window.overview.work is None
                )
            )
    window.close()
    return made


def render_states(file: Path, facts: Sequence[JobFacts], now: int, theme: str = "") -> None:
    """Paint the head of the window in several states, one below the other, into a PNG file."""
    _, look = make_application(theme)
    window = MainWindow(look, Path("none"), Path("none"))
    window.resize(1280, 800)
    head = window.findChild(QFrame, "head")
    assert head is not None
    strips = []
    for one in facts:
        window.head.show_status(status(one, now))
        window.head.take.setEnabled(one.state in _TAKES and not one.working)
        settle()
        strips.append(head.grab())
    high = sum(strip.height() + 2 for strip in strips)
    picture = QPixmap(strips[0].width(), high)
    picture.fill(look.color("ground"))
    painter, top = QPainter(picture), 0
    for strip in strips:
        painter.drawPixmap(0, top, strip)
        top += strip.height() + 2
    painter.end()
    picture.save(str(file))


def _enter(views: Views, path: bytes) -> None:
    views.timeline.enter(path)
    wait_until(lambda: not views.timeline.model.missing_views())


def _choose(window: MainWindow, views: Views, path: bytes, seq: int) -> None:
    views.timeline.select(path)
    views.timeline.go(seq)
    wait_detail(window)


def wait_detail(window: MainWindow) -> None:
    """Wait until the inspector shows what is chosen."""
    settle()
    wait_until(lambda: not window.link.waits)


def usual_states(now: int) -> list[JobFacts]:
    """Facts for every sentence that the head of the window may say."""
    hour, gib = 3600 * SECOND, 1 << 30
    here = JobFacts(
        state=StoreState.READY,
        disk="Pier",
        last=now - hour // 3,
        next=now + hour * 2 // 3,
        free=719 * gib,
        full_in_days=400.0,
    )

    def but(**changes: object) -> JobFacts:
        return msgspec.structs.replace(here, **changes)

    away = now - 26 * hour
    full, room = "No room left on the disk", "Make room, or add a larger disk"
    return [
        JobFacts(state=StoreState.NO_JOB),
        JobFacts(state=StoreState.EMPTY, disk="Pier", free=719 * gib),
        here,
        but(full_in_days=9.0),
        but(by_hand=True, next=0),
        but(working=WorkKind.SNAPSHOT),
        but(due=now - hour),
        but(due=now - hour, wait=Wait.BATTERY, battery=17.0),
        but(due=now - hour, wait=Wait.PRESENTING),
        but(paused_until=now + 2 * hour),
        but(away_since=away, held=4, holding=True),
        but(away_since=away, holding=False),
        but(state=StoreState.LOCKED),
        but(gaps=2),
        but(failures=3, failing_since=now - 5 * hour, error=full, advice=room),
        but(state=StoreState.DAMAGED),
        but(state=StoreState.REPLACED),
        but(alarm="58 files were rewritten at once at 15:00", alarm_since=now - hour),
    ]


def main() -> None:
    """``views SETTINGS FOLDER THEME``, ``harm`` or ``set-up SETTINGS FOLDER``, or ``states FILE``."""
    what, *words = sys.argv[1:]
    if what == "states":
        now = 1_794_840_300 * SECOND
        render_states(Path(words[0]), usual_states(now), now, "light")
        return
    settings, folder = Path(words[0]), Path(words[1])
    if what == "views":
        render_views(socket_of(settings), settings, folder, words[2])
    elif what == "harm":
        render_harm(socket_of(settings), settings, folder, "light")
    else:
        render_set_up(socket_of(settings), settings, folder, "light")


if __name__ == "__main__":
    main()
