"""Setting up from the window: disks, new jobs, stores of a job, stores to read only."""

from __future__ import annotations

import os
from collections.abc import Callable
from importlib import resources
from pathlib import Path

import msgspec

from good_tide.agent.job_session import JobSession
from good_tide.agent.passphrases import TypedPassphrases
from good_tide.agent.sessions import Sessions
from good_tide.core.errors import GoodTideError, PersonError
from good_tide.core.identifiers import JobId, StoreId
from good_tide.core.jobfile import parse_job_file
from good_tide.core.places import Check, DiskFacts, Level, Wanted, check_place, worst
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.core.words import count_words
from good_tide.operations.context import Context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.jobs.changing import keep
from good_tide.operations.jobs.in_menus import may_be_offered, put_into_menus
from good_tide.operations.jobs.making import checked_folders, own_history
from good_tide.operations.jobs.taking_over import histories, take_over, taken_over
from good_tide.operations.records.disk_absences import DiskAbsences
from good_tide.operations.stores.disks import (
    best_disk,
    devices_under,
    examine,
    known_store_ids,
    look_at,
    proposed_folder,
    store_ref,
)
from good_tide.operations.stores.furnishing import (
    Furnished,
    WantedStore,
    check_store_folder,
    furnish,
    remember,
)
from good_tide.operations.stores.opened import id_of
from good_tide.operations.stores.opening import Store, locked_hint, store_place
from good_tide.operations.stores.passphrases import open_counted
from good_tide.operations.workplace import add_job, load_jobs
from good_tide.protocol.contract import Handler
from good_tide.protocol.setup_calls import (
    AddStore,
    AreOnSameDisk,
    DiskView,
    ExaminedView,
    ExamineFolder,
    HistoryView,
    LookAtDisks,
    MadeView,
    NewStore,
    OpenedView,
    OpenToRead,
    ProposeSetUp,
    ProposeTakeOver,
    PutIntoMenus,
    SetUpJob,
    SetUpView,
    TakeOver,
    TakeOverView,
)
from good_tide.system.keyrings import answers
from good_tide.system.user_folders import proposed_folders, user_folders

OWN_POINTS = "starting-points"
"""Folder in the settings folder with the technician's own starting points."""


class SetUpHandlers:
    """Answers the set-up's questions and carries it out.

    :param begin: begins the first snapshot of a job that was made.
    """

    def __init__(
        self,
        context: Context,
        sessions: Sessions,
        typed: TypedPassphrases,
        absences: DiskAbsences,
        begin: Callable[[JobSession], None],
    ) -> None:
        self._context, self._sessions, self._typed, self._absences = context, sessions, typed, absences
        self._begin = begin
        self._settings, self._here, self._disks = context.here.settings, context.here, context.disks

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (
            ProposeSetUp.by(self.proposal),
            LookAtDisks.by(self.look_at_disks),
            ExamineFolder.by(self.examine),
            AreOnSameDisk.by(self.same_disk),
            SetUpJob.by(self.set_up),
            AddStore.by(self.add_store),
            OpenToRead.by(self.open_to_read),
            ProposeTakeOver.by(self.propose_take_over),
            TakeOver.by(self.take_over),
            PutIntoMenus.by(self.into_menus),
        )

    def proposal(self, wanted: ProposeSetUp) -> SetUpView:
        """What a set-up begins with."""
        home = home_folder()
        usual = {name: folder for name, folder in user_folders(home).items() if os.path.isdir(folder)}
        points = [(parse_job_file(text).name, text) for text in _ready_points()] + self._own_points()
        office = next(parse_job_file(text) for name, text in points if name == "Office")
        return SetUpView(
            self._here.machine.name,
            home,
            usual,
            tuple(proposed_folders(home)),
            office.rules,
            tuple(points),
            answers(self._context.ring),
            tuple(may_be_offered(self._here)),
        )

    def into_menus(self, wanted: PutIntoMenus) -> str:
        """Put earlier versions into the menus of the file managers that are here."""
        names = ", ".join(one.name for one in put_into_menus(self._here))
        return tr("“Earlier versions” is in the menus of {names}.").format(names=names)

    def _own_points(self) -> list[tuple[str, str]]:
        """The technician's own starting points: job files in the settings folder. One that cannot be read is
        noted and passed over."""
        found = []
        for file in sorted((self._settings / OWN_POINTS).glob("*.toml")):
            try:
                text = file.read_text(encoding="utf-8")
                found.append((parse_job_file(text).name, text))
            except (PersonError, OSError, UnicodeDecodeError) as error:
                self._context.journal.add(
                    "trouble",
                    None,
                    tr("The starting point {file} cannot be used").format(file=file),
                    (str(error),),
                )
        return found

    def look_at_disks(self, wanted: LookAtDisks) -> list[DiskView]:
        """All disks with their checks, the best one marked."""
        found = look_at(self._disks, self._known())
        place = Wanted(bytes=wanted.bytes, devices=devices_under(self._disks, wanted.folders))
        fresh = [disk for disk in found if not any(_on(folder, disk) for folder in wanted.used)]
        best = best_disk(fresh, place)
        views = [
            DiskView(
                disk,
                tuple(check_place(disk, self._of(disk, place))),
                self._proposed(disk, wanted.used),
                best is not None and disk.id == best.id,
            )
            for disk in found
        ]
        order = [Level.GOOD, Level.DOUBTFUL, Level.BAD]
        return sorted(
            views,
            key=lambda view: (
                not view.best,
                order.index(worst(list(view.checks))),
                view.facts.name.casefold(),
            ),
        )

    def _proposed(self, disk: DiskFacts, used: tuple[str, ...]) -> str:
        """The store of this machine on a disk that is not in use, or a new folder."""
        own = next(
            (store.path for store in disk.stores if store.whose == "this" and store.path not in used), ""
        )
        folder = proposed_folder(disk, self._here.machine.name)
        return own or (folder if folder not in used else f"{folder}-2")

    def _known(self) -> frozenset[StoreId]:
        return known_store_ids(load_jobs(self._settings), self._context.whereabouts)

    def _of(self, disk: DiskFacts, wanted: Wanted) -> Wanted:
        return msgspec.structs.replace(wanted, times_away=self._absences.times(disk.id))

    def examine(self, wanted: ExamineFolder) -> ExaminedView:
        """One folder as the place of a store."""
        where = store_place(wanted.folder)
        disk = self._context.disk_of(where)
        place = Wanted(bytes=wanted.bytes, devices=devices_under(self._disks, wanted.folders))
        place = place if disk is None else self._of(disk, place)
        found = examine(self._disks, where, place, self._known(), wanted.measure)
        checks = list(found.checks)
        hint = None
        try:
            note = check_store_folder(found.folder, wanted.folders) if where.folder is not None else ""
            checks += [Check(Level.GOOD, note)] if note else []
        except PersonError as error:
            checks.insert(0, Check(Level.BAD, error.what, error.advice))
        if found.holds:
            try:
                hint = locked_hint(where)
            except GoodTideError:
                hint = None
        return ExaminedView(found.folder, tuple(checks), found.holds, hint, found.need)

    def same_disk(self, wanted: AreOnSameDisk) -> bool:
        """Whether two paths are on the same disk, or one of them on no disk that is known."""
        first, second = (self._disks.of_folder(Path(one)) for one in (wanted.one, wanted.other))
        if first is None or second is None:
            return True
        inside = os.path.abspath(wanted.one).startswith(os.path.abspath(wanted.other) + "/")
        return first.id == second.id or inside

    def set_up(self, wanted: SetUpJob) -> MadeView:
        """Make a job with its store, and begin its first snapshot.

        Raises:
            GoodTideError: something of it cannot be done; nothing is left half made but an empty store.
        """
        folders, notes = checked_folders(wanted.folders)
        job = Job(name=wanted.name.strip() or "Office", folders=folders, stores=(), rules=wanted.rules)
        job = own_history(job, load_jobs(self._settings), self._here.machine)
        job.parsed_rules()
        furnished = self._furnished(job, wanted.store, lambda first: None)
        job, made = add_job(self._settings, furnished.job), furnished.made[0]
        count = count_words(len(folders), "folder")
        words = tr("The job {name} was set up with {count} and the store {called}").format(
            name=job.name, count=count, called=made.where.called
        )
        self._context.journal.add("note", job, words)
        self._begin(self._sessions.take(job))
        return MadeView(job.id, made.where.called, made.recovery_key, (*notes, *furnished.notes))

    def add_store(self, wanted: AddStore) -> MadeView:
        """Add a store to a job. A new one shares its chunks' identities with the first, so that history can
        be carried."""
        session = self._sessions.of(wanted.job)
        furnished = self._furnished(session.job, wanted.store, lambda first: session.store())
        self._sessions.take(keep(self._context, furnished.job))
        made = furnished.made[0]
        return MadeView(wanted.job, made.where.called, made.recovery_key, tuple(furnished.notes))

    def _furnished(self, job: Job, wanted: NewStore, twin: Callable[[StoreRef], Store | None]) -> Furnished:
        """A job with a further store, whose passphrase is kept while the agent runs, and remembered by
        choice."""
        where, passphrase = store_place(wanted.folder), wanted.passphrase
        ref = store_ref(self._disks, where)
        store = WantedStore(ref, where, passphrase is not None, wanted.doubts)
        context = self._context
        made = furnish(context, job, [store], lambda: passphrase, twin, wanted.hint, opens=True)
        notes = made.notes
        if passphrase:
            self._typed.keep(made.made[0].ref.store, passphrase)
            if wanted.remember:
                notes = notes + remember(context, job, made.made, passphrase)
        return Furnished(made.job, made.made, notes)

    def open_to_read(self, wanted: OpenToRead) -> OpenedView:
        """Open a store of any machine to look into it and restore from it. Each of its histories can then be
        chosen like a job.

        Raises:
            GoodTideError: it cannot be opened, or holds no snapshot.
        """
        where = store_place(wanted.folder)
        store = open_counted(self._context, where, wanted.passphrase)
        identity = id_of(store)
        if wanted.passphrase:
            self._typed.keep(identity, wanted.passphrase)
        found = histories(store)
        if not found:
            raise PersonError(
                tr("The store in {called} holds no snapshot").format(called=where.called),
                tr("Choose another one"),
            )
        views = []
        for one in found:
            job = Job(
                id=JobId(f"read {identity} {one.machine.id}"),
                name=tr("{name} (only to read)").format(name=one.machine.name),
                folders=(),
                stores=(store_ref(self._disks, where),),
                machine=one.machine,
            )
            self._sessions.take(job, reading=True)
            views.append(HistoryView(job.id, one))
        return OpenedView(tuple(views), self._context.clock.now())

    def propose_take_over(self, wanted: ProposeTakeOver) -> TakeOverView:
        """What going on here with the history that is looked into would be.

        Raises:
            PersonError: it cannot go on here, and why.
        """
        session = self._sessions.of(wanted.job)
        job, notes = taken_over(self._context, session.store(), session.machine)
        newest = max(session.tide().time, default=0)
        rungs = "; ".join(rung.text() for rung in job.ladder.rungs)
        return TakeOverView(
            job.name, job.folders, len(job.rules), job.rhythm.words(), rungs, newest, tuple(notes)
        )

    def take_over(self, wanted: TakeOver) -> MadeView:
        """Go on here with the history that is looked into.

        Raises:
            PersonError: it cannot go on here, and why.
        """
        session = self._sessions.of(wanted.job)
        store = session.store()
        job, made, notes = take_over(self._context, store, session.machine, wanted.name)
        passphrase = self._typed.known(id_of(store))
        if wanted.remember and passphrase:
            notes += remember(self._context, job, [made], passphrase)
        self._sessions.take(job)
        self._sessions.drop(wanted.job)
        return MadeView(job.id, made.where.called, None, tuple(notes))


def _ready_points() -> list[str]:
    """The texts of the starting points that come with the program."""
    files = sorted(
        resources.files("good_tide").joinpath("starting_points").iterdir(), key=lambda one: one.name
    )
    return [file.read_text(encoding="utf-8") for file in files]


def _on(folder: str, disk: DiskFacts) -> bool:
    return disk.path != "/" and folder.startswith(disk.path.rstrip("/") + "/")
