"""Setting up from the window: disks, new jobs, stores of a job, and who may read them."""

from __future__ import annotations

import os
from collections.abc import Callable
from importlib import resources
from pathlib import Path

import msgspec

from good_tide.agent.session import Session
from good_tide.core.clock import Clock
from good_tide.core.errors import GoodTideError, PersonError, PlaceError
from good_tide.core.jobfile import parse_job_file
from good_tide.core.places import Check, DiskFacts, Level, Wanted, check_place, worst
from good_tide.core.settings import Job, StoreRef
from good_tide.core.words import count_words
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.jobs.making import (
    check_store_folder,
    checked_folders,
    open_counted,
    own_history,
    ref_of,
)
from good_tide.operations.records.disk_absences import Comings
from good_tide.operations.records.journal import Journal
from good_tide.operations.stores.disks import (
    best_disk,
    devices_under,
    examine,
    known_store_ids,
    look_at,
    proposed_folder,
    store_ref,
)
from good_tide.operations.stores.opening import create_at, locked_hint, store_id
from good_tide.operations.stores.pinning import pinned
from good_tide.operations.stores.slots import (
    SlotFacts,
    add_passphrase,
    add_recovery,
    change_passphrase,
    list_slots,
    revoke,
)
from good_tide.operations.workplace import Workplace, add_job, load_jobs, save_job
from good_tide.protocol.messages import DiskView, ExaminedView, MadeView, SetUpView, SlotView
from good_tide.system.disks import Disks
from good_tide.system.keyrings import KeyRing
from good_tide.system.user_folders import proposed_folders, user_folders

OWN_POINTS = "starting-points"
"""Folder in the settings folder with the technician's own starting points."""


class PlaceQuestion(msgspec.Struct):
    """Disks or one folder are asked about, for so many covered bytes (None: not known yet) in these folders.

    :param used: folders of stores that the job has already; their disks are not proposed again.
    """

    folders: tuple[str, ...] = ()
    bytes: int | None = None
    folder: str = ""
    measure: bool = False
    used: tuple[str, ...] = ()


class NewStoreRequest(msgspec.Struct):
    """A store to be made, or used again when it is there. ``doubts`` were seen and accepted; ``passphrase``
    None: open."""

    folder: str
    passphrase: str | None = None
    hint: str = ""
    remember: bool = False
    doubts: tuple[str, ...] = ()


class SetUpRequest(msgspec.Struct):
    """A job to be made with its first store."""

    name: str
    folders: tuple[str, ...]
    rules: tuple[str, ...]
    store: NewStoreRequest


class SlotRequest(msgspec.Struct):
    """A change of who may read a store: ``act`` is ``change``, ``add``, ``recovery`` or ``revoke``."""

    folder: str
    act: str
    old: str = ""
    new: str = ""
    hint: str = ""
    number: int = 0
    remember: bool = False


class SetUpDesk:
    """Answers the set-up's questions and carries it out.

    :param typed: where passphrases are kept while the agent runs, by the stores' ids.
    :param changed: called with the job that was made or changed.
    """

    def __init__(
        self,
        settings: Path,
        here: Workplace,
        clock: Clock,
        disks: Disks,
        ring: KeyRing,
        typed: dict[str, str],
        journal: Journal,
        comings: Comings,
        changed: Callable[[Job], None],
    ) -> None:
        self._settings, self._here, self._clock, self._disks, self._ring = settings, here, clock, disks, ring
        self._typed, self._journal, self._comings, self._changed = typed, journal, comings, changed

    def proposal(self) -> SetUpView:
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
            self._has_ring(),
        )

    def _own_points(self) -> list[tuple[str, str]]:
        """The technician's own starting points: job files in the settings folder. One that cannot be read is
        noted and passed over."""
        found = []
        for file in sorted((self._settings / OWN_POINTS).glob("*.toml")):
            try:
                text = file.read_text(encoding="utf-8")
                found.append((parse_job_file(text).name, text))
            except (PersonError, OSError, UnicodeDecodeError) as error:
                self._journal.add("trouble", "", f"The starting point {file} cannot be used", (str(error),))
        return found

    def _has_ring(self) -> bool:
        try:
            self._ring.recall("-")
        except PlaceError:
            return False
        return True

    def disks(self, question: PlaceQuestion) -> list[DiskView]:
        """All disks with their checks, the best one marked."""
        found = look_at(self._disks, self._known())
        wanted = self._wanted(question)
        fresh = [disk for disk in found if not any(_on(folder, disk) for folder in question.used)]
        best = best_disk(fresh, wanted)
        views = [
            DiskView(
                disk,
                tuple(check_place(disk, self._of(disk, wanted))),
                self._proposed(disk, question.used),
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

    def _known(self) -> frozenset[str]:
        return known_store_ids(load_jobs(self._settings), self._disks)

    def _of(self, disk: DiskFacts, wanted: Wanted) -> Wanted:
        return msgspec.structs.replace(wanted, times_away=self._comings.times(disk.id))

    def _wanted(self, question: PlaceQuestion) -> Wanted:
        return Wanted(bytes=question.bytes, devices=devices_under(self._disks, question.folders))

    def examine(self, question: PlaceQuestion) -> ExaminedView:
        """One folder as the place of a store."""
        disk = self._disks.of_folder(Path(os.path.abspath(question.folder)))
        wanted = self._wanted(question) if disk is None else self._of(disk, self._wanted(question))
        found = examine(self._disks, Path(question.folder), wanted, self._known(), question.measure)
        checks = list(found.checks)
        hint = None
        try:
            note = check_store_folder(found.folder, question.folders)
            checks += [Check(Level.GOOD, note)] if note else []
        except PersonError as error:
            checks.insert(0, Check(Level.BAD, error.what, error.advice))
        if found.holds:
            try:
                hint = locked_hint(Path(found.folder))
            except GoodTideError:
                hint = None
        return ExaminedView(found.folder, tuple(checks), found.holds, hint)

    def same_disk(self, one: str, other: str) -> bool:
        """Whether two paths are on the same disk, or one of them on no disk that is known."""
        first, second = self._disks.of_folder(Path(one)), self._disks.of_folder(Path(other))
        if first is None or second is None:
            return True
        return first.id == second.id or os.path.abspath(one).startswith(os.path.abspath(other) + "/")

    def begin(self, request: SetUpRequest) -> MadeView:
        """Make a job with its store.

        Raises:
            GoodTideError: something of it cannot be done; nothing is left half made but an empty store.
        """
        folders, notes = checked_folders(request.folders)
        note = check_store_folder(request.store.folder, folders)
        notes += [note] if note else []
        job = Job(name=request.name.strip() or "Office", folders=folders, stores=(), rules=request.rules)
        job = own_history(job, load_jobs(self._settings), self._here.machine)
        job.parsed_rules()
        ref, recovery = self._store(job, request.store, None)
        job = msgspec.structs.replace(job, stores=(ref,))
        add_job(self._settings, job)
        self._journal.add(
            "note",
            job.name,
            f"The job {job.name} was set up with {count_words(len(folders), 'folder')} and the store"
            f" {ref.path}",
        )
        self._changed(job)
        return MadeView(job.name, ref.path, recovery, tuple(notes))

    def _store(self, job: Job, wanted: NewStoreRequest, twin: Session | None) -> tuple[StoreRef, str | None]:
        """Make a store, or open the one that is there to use it again."""
        folder = Path(os.path.abspath(wanted.folder))
        recovery = None
        if os.path.isfile(folder / "store.json"):
            ref = pinned(
                store_ref(self._disks, folder),
                open_counted(folder, wanted.passphrase, self._here.state, self._clock),
            )
            words = f"The store in {folder} is used again"
        else:
            new = create_at(folder, wanted.passphrase, wanted.hint, None if twin is None else twin.store())
            ref, recovery = ref_of(store_ref(self._disks, folder), new), new.recovery_key
            words = f"A store was made in {folder}"
        self._journal.add(
            "note" if wanted.doubts else "good",
            job.name,
            words,
            tuple(f"Accepted knowingly: {doubt}" for doubt in wanted.doubts),
        )
        if wanted.passphrase:
            self._typed[store_id(folder)] = wanted.passphrase
        if wanted.remember and wanted.passphrase:
            try:
                self._ring.remember(store_id(folder), wanted.passphrase)
            except PlaceError as error:
                self._journal.add(
                    "trouble", job.name, "The passphrase could not be remembered", (str(error),)
                )
        return ref, recovery

    def add_store(self, session: Session, request: NewStoreRequest) -> MadeView:
        """Add a store to a job. A new one shares its chunks' identities with the first, so that history can
        be carried."""
        job = session.job
        note = check_store_folder(request.folder, job.folders)
        folder = os.path.abspath(request.folder)
        if any(str(session.folder_of(ref) or ref.path) == folder for ref in job.stores):
            raise PersonError(f"The job uses {folder} already", "Choose another folder")
        ref, recovery = self._store(job, request, session if job.stores else None)
        self.change(msgspec.structs.replace(job, stores=(*job.stores, ref)))
        return MadeView(job.name, ref.path, recovery, (note,) if note else ())

    def change(self, job: Job) -> None:
        """Keep a changed job.

        Raises:
            PersonError: a rule or the rhythm cannot be read.
        """
        job.parsed_rules()
        job.rhythm.check()
        save_job(self._settings, job)
        self._changed(job)

    def drop_store(self, session: Session, folder: str) -> None:
        """Take a store out of a job; the store itself stays as it is.

        Raises:
            PersonError: it is the only one.
        """
        kept = tuple(
            ref for ref in session.job.stores if folder not in (ref.path, str(session.folder_of(ref)))
        )
        if not kept:
            raise PersonError("This is the job's only store", "Add another one first")
        self._journal.add(
            "note",
            session.job.name,
            f"The store in {folder} is no longer used by this job; nothing on it was changed",
        )
        self.change(msgspec.structs.replace(session.job, stores=kept))

    def slots(self, session: Session, folder: str) -> list[SlotView]:
        """The ways to open a store."""
        return [_slot_view(slot) for slot in list_slots(Path(folder))]

    def change_slots(self, session: Session, request: SlotRequest) -> MadeView:
        """Change who may read a store."""
        folder = Path(request.folder)
        ref = next((one for one in session.job.stores if session.folder_of(one) == folder), None)
        store = session.openings.store(ref, folder) if ref is not None else session.store()
        recovery = None
        if request.act == "change":
            change_passphrase(store, request.old, request.new, request.hint)
            words = "The passphrase was changed; the old one no longer opens the store"
        elif request.act == "add":
            add_passphrase(store, request.new, request.hint)
            words = "A further passphrase was added"
        elif request.act == "recovery":
            recovery = add_recovery(store)
            words = "A new recovery key was made"
        else:
            gone = revoke(store, request.number)
            words = (
                f"The {'recovery key' if gone.kind == 'recovery' else 'passphrase'} number {gone.number} no"
                " longer opens the store"
            )
        self._journal.add("note", session.job.name, f"{words}: {folder}")
        notes: tuple[str, ...] = (words,)
        if request.act == "change":
            self._typed[store.header.store] = request.new
            try:
                if request.remember or self._ring.recall(store.header.store) is not None:
                    self._ring.remember(store.header.store, request.new)
            except PlaceError as error:
                notes += (str(error),)
        return MadeView(session.job.name, str(folder), recovery, notes)


def _ready_points() -> list[str]:
    """The texts of the starting points that come with the program."""
    files = sorted(
        resources.files("good_tide").joinpath("starting_points").iterdir(), key=lambda one: one.name
    )
    return [file.read_text(encoding="utf-8") for file in files]


def _on(folder: str, disk: DiskFacts) -> bool:
    return disk.path != "/" and folder.startswith(disk.path.rstrip("/") + "/")


def _slot_view(slot: SlotFacts) -> SlotView:
    return SlotView(slot.number, slot.kind, slot.hint)
