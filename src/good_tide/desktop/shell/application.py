"""Starting the window; and painting its views into files where there is no display."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from pathlib import Path

from PySide6.QtCore import QEventLoop, QSettings, Qt, QTimer
from PySide6.QtGui import QFont, QFontDatabase, QGuiApplication, QPainter, QPixmap
from PySide6.QtWidgets import QApplication, QFrame

from good_tide.core.status import JobFacts, status
from good_tide.desktop.painting.icons import program_icon
from good_tide.desktop.painting.palette import DARK, LIGHT, Palette, style_sheet
from good_tide.desktop.shell.panel import PanelIcon
from good_tide.desktop.shell.single import Door, hand_over
from good_tide.desktop.shell.window import PLACES, MainWindow

_FONTS = Path(__file__).parent.parent / "fonts"
_POINTS = 10
_WAIT_MS = 180_000


def make_application(theme: str = "") -> tuple[QApplication, Palette]:
    """The Qt application in the program's style.

    :param theme: ``light`` or ``dark``; empty: the person's choice, or else the desktop's.
    """
    application = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(application, QApplication)
    application.setApplicationName("good-tide")
    application.setApplicationDisplayName("Good Tide")
    application.setDesktopFileName("good-tide")
    application.setStyle("Fusion")
    for file in sorted(_FONTS.glob("*.otf")):
        QFontDatabase.addApplicationFont(str(file))
    font = QFont("Inter")
    font.setPointSize(_POINTS)
    font.setFeature(QFont.Tag("tnum"), 1)
    application.setFont(font)
    application.setWindowIcon(program_icon())
    wanted = theme or str(QSettings("good-tide", "window").value("theme", "")) or _desktop_theme()
    look = DARK if wanted == "dark" else LIGHT
    sheet = style_sheet(look)
    if application.styleSheet() != sheet:  # setting it looks at every widget there is
        application.setStyleSheet(sheet)
    return application, look


def _desktop_theme() -> str:
    return "dark" if QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark else "light"


def run_window(socket: Path, settings: Path, job: str = "", place: str = "", theme: str = "") -> int:
    """Open the window, at a place of a job if they are named, and stay until it is closed. A window that is
    open already does it."""
    application, look = make_application(theme)
    if hand_over(socket, job, place):
        return 0
    window = MainWindow(look, socket, settings)
    Door(socket, window.show_named, window)
    window.show()
    window.start()
    if job or place:
        window.link.connected.connect(
            lambda: window.show_named(job, place), Qt.ConnectionType.SingleShotConnection
        )
    return application.exec()


def run_panel(socket: Path, settings: Path) -> int:
    """Show the icon in the desktop's panel, and stay."""
    application, _ = make_application()
    application.setQuitOnLastWindowClosed(False)
    icon = PanelIcon(socket, settings)
    icon.start()
    return application.exec()


def render_views(socket: Path, settings: Path, folder: Path, theme: str = "") -> list[Path]:
    """Paint the main views into PNG files, from the live window with the agent behind it.

    Raises:
        RuntimeError: the agent did not answer in time.
    """
    application, look = make_application(theme)
    window = MainWindow(look, socket, settings)
    window.show()
    window.start()
    wait_until(lambda: window.overview.state == "ready" and not window.timeline.model.missing_views())
    folder.mkdir(parents=True, exist_ok=True)
    made = []

    def shoot(name: str) -> None:
        settle(application)
        file = folder / f"{name}.png"
        window.grab().save(str(file))
        made.append(file)

    place = window.timeline
    shoot("timeline-all")
    winter = (
        next(line.name for line in place.model._views[b""] if line.name.endswith(b"Productions"))
        + b"/Winter play"
    )
    office = winter.replace(b"Productions/Winter play", b"Office")
    _enter(window, winter + b"/..", office + b"/Budgets")
    place.model.step_change(forward=False)
    _choose(window, office + b"/Budgets/winter play budget.csv", place.model.moment)
    budget = place.model.row_of(place.model.selected)
    if budget is not None and len(budget.line.spans) > 1:
        before = budget.line.spans[-2].last or 1
        place.go(before)
        wait_detail(window)
        place.inspector._modes.button(1).click()
    shoot("timeline-budget")
    place.plan([place.model.picked(office + b"/Budgets/winter play budget.csv")])
    assert place.dialog is not None
    dialog = place.dialog
    wait_until(lambda: dialog.number > 0)
    settle(application)
    dialog.grab().save(str(folder / "restore-plan.png"))
    made.append(folder / "restore-plan.png")
    dialog.reject()
    _enter(window, b"", winter)
    wait_detail(window)
    shoot("timeline-winter")
    for number, name in enumerate(PLACES[1:], 1):
        window.show_place(number)
        wait_until(lambda: not window.link._waiting)
        if name == "Coverage":
            _coverage(window, shoot)
            continue
        if name == "Rhythm":
            wait_until(lambda: window.rhythm.view is not None)
        shoot(name.lower())
        if name == "Rhythm":
            window.rhythm.ladder.choose("usual")
            window.rhythm.show_below()
            wait_until(lambda: "up to" not in window.rhythm.ladder.words.text())
            shoot("ladder")
        if name == "Journal":
            window.journal.what.setCurrentIndex(1)
            shoot("journal-runs")
        if name == "Stores":
            _room(window, shoot)
            window.stores.open_panel()
            wait_until(lambda: window.stores.panel.place.examined is not None and not window.link._waiting)
            shoot("stores-add")
    window.close()
    return made


def _room(window: MainWindow, shoot: Callable[[str], None]) -> None:
    """What takes the room of a store, with a stretch of time chosen and something looked for in all of
    history."""
    page = window.stores.room_page
    window.stores.cards[0].what.click()
    wait_until(lambda: bool(page.picture.snapshots))
    names = [one.name for one in page.picture.snapshots]
    page.picture.choose(names[len(names) // 3 : len(names) // 2])
    page.pattern.setText("*.wav")
    page.look.click()
    wait_until(
        lambda: page.out.isEnabled() and "gives back" in page.words.text() and not window.link._waiting
    )
    shoot("stores-room")
    page.back.click()


def _coverage(window: MainWindow, shoot: Callable[[str], None]) -> None:
    """Coverage as it is, and with a rule being weighed."""
    place = window.coverage
    wait_until(lambda: place.survey is not None and place.survey.done)
    shoot("coverage")
    place.rules.add_line("exclude kind sound")
    wait_until(lambda: place.keep.isEnabled() and not window.link._waiting and not place._timer.isActive())
    shoot("coverage-change")
    place.discard.click()
    wait_until(lambda: not window.link._waiting)


def render_set_up(socket: Path, settings: Path, folder: Path, theme: str = "") -> list[Path]:
    """Paint the set-up of a machine without a job into PNG files, and carry it out with what is proposed."""
    application, look = make_application(theme)
    window = MainWindow(look, socket, settings)
    window.show()
    window.start()
    page = window.set_up
    wait_until(
        lambda: (
            page.survey is not None
            and page.survey.done
            and page.place.examined is not None
            and not window.link._waiting
        )
    )
    page.secrecy.take_proposal()
    wait_until(lambda: page.begin.isEnabled() and page.secrecy.bar.score > 0)
    made = []
    for name in ("set-up", "recovery-key"):
        settle(application)
        made.append(folder / f"{name}.png")
        window.grab().save(str(made[-1]))
        if name == "set-up":
            page.begin.click()
            wait_until(
                lambda: (
                    window._places.currentWidget() is window.recovery
                    and window.overview.state == "ready"
                    and window.overview.work is None
                )
            )
    window.close()
    return made


def render_states(file: Path, facts: Sequence[JobFacts], now: int, theme: str = "") -> None:
    """Paint the head of the window in several states, one below the other, into a PNG file."""
    application, look = make_application(theme)
    window = MainWindow(look, Path("none"), Path("none"))
    window.resize(1280, 800)
    head = window.findChild(QFrame, "head")
    assert head is not None
    strips = []
    for one in facts:
        window.show_status(status(one, now))
        window.take.setEnabled(one.state in ("ready", "empty") and not one.working)
        settle(application)
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


def _enter(window: MainWindow, _unused: bytes, path: bytes) -> None:
    window.timeline.enter(path)
    wait_until(lambda: not window.timeline.model.missing_views())


def _choose(window: MainWindow, path: bytes, seq: int) -> None:
    window.timeline.select(path)
    window.timeline.go(seq)
    wait_detail(window)


def wait_detail(window: MainWindow) -> None:
    """Wait until the inspector shows what is chosen."""
    settle(QApplication.instance())
    wait_until(lambda: not window.link._waiting)


def settle(application: object) -> None:
    """Let pending events and short timers happen."""
    loop = QEventLoop()
    QTimer.singleShot(120, loop.quit)
    loop.exec()


def wait_until(true: Callable[[], bool]) -> None:
    """Run the event loop until something is so.

    Raises:
        RuntimeError: it was not so within three minutes, which a busy machine may take.
    """
    loop = QEventLoop()
    reached = []

    def look() -> None:
        if true():
            reached.append(True)
            loop.quit()

    timer = QTimer(interval=20)
    timer.timeout.connect(look)
    timer.start()
    QTimer.singleShot(_WAIT_MS, loop, loop.quit)
    loop.exec()
    timer.stop()
    # Not asked once more: what was so may have ended before the loop came to its end.
    if not reached:
        raise RuntimeError("the window did not get what it waits for")
