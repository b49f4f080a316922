"""Earlier versions in the menus of file managers: what each of them takes, where it looks for it, and whether
it is there. Nothing of it is left when it is taken away."""

from __future__ import annotations

import contextlib
import glob
import os
import shutil
from collections.abc import Callable, Iterable
from importlib import resources
from pathlib import Path
from typing import NamedTuple

from good_tide.core.translation import tr
from good_tide.system import folder_programs, thunar_actions
from good_tide.system.covered_list import list_file, read_list, write_list
from good_tide.system.desktop_entry import for_entry, share_folder, write_text
from good_tide.system.shared_files import SharedFiles

EARLIER, MISSING = tr("Earlier versions"), tr("What is missing here")
_FOLDER_ENTRY = "good-tide-folder.desktop"


class Manager(NamedTuple):
    """A file manager.

    :param name: as people know it. :param program: its command.
    :param files: what it takes, by the places below the person's folder for shared data.
    :param loader: where what loads extensions lies, as patterns; empty where none is needed.
    :param package: what has it, in the words of distributions.
    """

    name: str
    program: str
    files: Callable[[str], dict[str, str]]
    loader: tuple[str, ...] = ()
    package: str = ""

    @property
    def there(self) -> bool:
        """Whether it is on this machine."""
        return shutil.which(self.program) is not None

    @property
    def loads(self) -> bool:
        """Whether it can load what it takes."""
        places = [f"{above}/{one}" for above in ("/usr/lib*", "/usr/lib/*") for one in self.loader]
        return not places or any(glob.glob(place) for place in places)


def _extension(manager: str, folder: str) -> Callable[[str], dict[str, str]]:
    """One Python file, which the manager's own bindings load."""

    def files(program: str) -> dict[str, str]:
        text = (resources.files("good_tide") / "entry" / "file_manager_menu.py").read_text("utf-8")
        for word, value in (
            ('"THE-MANAGER"', repr(manager)),
            ('"THE-PROGRAM"', repr(program)),
            ('"THE-COVERED-LIST"', repr(str(list_file()))),
            ('"EARLIER-VERSIONS"', repr(EARLIER)),
            ('"WHAT-IS-MISSING"', repr(MISSING)),
        ):
            text = text.replace(word, value)
        return {f"{folder}/extensions/good_tide_menu.py": text}

    return files


def _service_menus(program: str) -> dict[str, str]:
    """Service menus of KDE; they lie there as programs do, or are not taken."""
    return {
        f"kio/servicemenus/good-tide-{word}.desktop": "[Desktop Entry]\nType=Service\n"
        f"MimeType={kinds};\nActions=open;\nX-KDE-Priority=TopLevel\nX-KDE-Protocols=file\n"
        f"X-KDE-RequiredNumberOfUrls=1\n\n[Desktop Action open]\nName={name}\nIcon=good-tide\n"
        f"Exec={for_entry(program)} window {option}-- %f\n"
        for word, name, kinds, option in (
            ("earlier-versions", EARLIER, "all/all", ""),
            ("missing", MISSING, "inode/directory", "--missing "),
        )
    }


def _desktop_actions(program: str) -> dict[str, str]:
    """Actions by the “Desktop Entry Specification: Actions and Menus” of file managers, shown in covered
    folders and for these themselves only."""
    folders = [folder.rstrip("/") for folder in read_list()]
    below = "".join(f"{_listed(one)};{_listed(one)}/*;" for one in folders)
    return {
        f"file-manager/actions/good-tide-{word}.desktop": f"[Desktop Entry]\nType=Action\nName={name}\n"
        f"Icon=good-tide\nTargetContext=true\nTargetLocation={'true' if of_folder else 'false'}\n"
        "Profiles=open;\n\n[X-Action-Profile open]\n"
        f"MimeTypes={kinds};\nSelectionCount==1\nSchemes=file;\nFolders={below}\n"
        f"Exec={for_entry(program)} window {option}-- %f\n"
        for word, name, kinds, option, of_folder in (
            ("earlier-versions", EARLIER, "all/all", "", False),
            ("missing", MISSING, "inode/directory", "--missing ", True),
        )
    }


def _listed(path: str) -> str:
    """A path as lists in desktop entries have it."""
    return path.replace("\\", "\\\\").replace(";", "\\;")


MANAGERS = (
    Manager(
        "Nautilus",
        "nautilus",
        _extension("Nautilus", "nautilus-python"),
        ("nautilus/extensions-*/libnautilus-python.so",),
        "python3-nautilus",
    ),
    Manager(
        "Nemo",
        "nemo",
        _extension("Nemo", "nemo-python"),
        ("nemo/extensions-*/libnemo-python.so",),
        "nemo-python",
    ),
    Manager(
        "Caja",
        "caja",
        _extension("Caja", "caja-python"),
        ("caja/extensions-*/libcaja-python.so",),
        "python3-caja",
    ),
    Manager("Dolphin", "dolphin", _service_menus),
    Manager("Thunar", "thunar", lambda program: {}),
    Manager("PCManFM-Qt", "pcmanfm-qt", _desktop_actions),
)
_THUNAR = "Thunar"


class Standing(NamedTuple):
    """How it stands with a file manager. ``lacks``: a package without which it shows nothing; empty where it
    needs none."""

    name: str
    there: bool
    installed: bool
    lacks: str


class FileManagers:
    """All of them, for one person.

    :param notes: the file that remembers what shared files were.
    """

    def __init__(self, notes: Path) -> None:
        self._shared = SharedFiles(notes)

    def standings(self) -> list[Standing]:
        """How it stands with each."""
        return [
            Standing(one.name, one.there, self._is_installed(one), "" if one.loads else one.package)
            for one in MANAGERS
        ]

    def installed(self) -> list[Path]:
        """The files that are there now and belong to nobody else."""
        places = [share_folder() / place for one in MANAGERS for place in one.files("")]
        places += [_folder_entry(), list_file()]
        return [place for place in places if place.is_file()]

    def install(self, program: str, folders: Iterable[str]) -> list[str]:
        """Put it into the menus of all that are on this machine; their names. It can be done again.

        Raises:
            PlaceError: something cannot be written. PersonError: a file of a manager's cannot be understood.
        """
        write_list(folders)
        done = []
        for one in MANAGERS:
            if one.there:
                self._install_one(one, program)
                done.append(one.name)
        self._add_to_programs(program)
        return done

    def _install_one(self, one: Manager, program: str) -> None:
        if one.name == _THUNAR:
            actions = thunar_actions.with_actions(thunar_actions.actions_now(), program, EARLIER, MISSING)
            self._shared.change(thunar_actions.actions_file(), actions)
        for place, text in one.files(program).items():
            write_text(share_folder() / place, text, 0o755 if place.startswith("kio/") else 0o644)

    def _add_to_programs(self, program: str) -> None:
        """Among the programs with which folders are opened."""
        name, command = tr("Earlier versions (Good Tide)"), f"{for_entry(program)} window -- %f"
        write_text(
            _folder_entry(),
            f"[Desktop Entry]\nType=Application\nName={name}\nIcon=good-tide\nNoDisplay=true\n"
            f"Exec={command}\nTerminal=false\nStartupNotify=true\n",
        )
        file = folder_programs.associations_file()
        before = file.read_text("utf-8", "surrogateescape") if file.is_file() else ""
        usual = folder_programs.usual_program()
        choices = folder_programs.with_program(before, _FOLDER_ENTRY, "" if usual == _FOLDER_ENTRY else usual)
        self._shared.change(file, os.fsencode(choices))

    def remove(self) -> list[Path]:
        """Take everything away; what was there."""
        gone = self.installed()
        for file in gone:
            file.unlink(missing_ok=True)
        self._shared.take_back(thunar_actions.actions_file(), thunar_actions.without_actions)

        def without(data: bytes) -> bytes:
            text = data.decode("utf-8", "surrogateescape")
            return (
                os.fsencode(folder_programs.without_program(text, _FOLDER_ENTRY))
                if _FOLDER_ENTRY in text
                else data
            )

        self._shared.take_back(folder_programs.associations_file(), without)
        for folder in {file.parent for file in gone}:
            _remove_empty(folder)
        with contextlib.suppress(OSError):  # something is in it, or it was never there
            thunar_actions.actions_file().parent.rmdir()
        return gone

    def _is_installed(self, one: Manager) -> bool:
        if one.name == _THUNAR:
            now = thunar_actions.actions_file()
            return now.is_file() and b"<unique-id>good-tide-" in now.read_bytes()
        return all((share_folder() / place).is_file() for place in one.files(""))


def take_covered(folders: Iterable[str]) -> None:
    """Other folders are covered: managers that show something in these only learn of it, where something is
    installed in them at all.

    Raises:
        PlaceError: it cannot be written.
    """
    wanted = list(dict.fromkeys(folders))
    if not list_file().is_file() or read_list() == wanted:
        return
    write_list(wanted)
    for place, text in _desktop_actions("PROGRAM").items():
        file = share_folder() / place
        if file.is_file():
            new = next(line for line in text.splitlines() if line.startswith("Folders="))
            lines = [new if line.startswith("Folders=") else line for line in file.read_text().splitlines()]
            write_text(file, "\n".join(lines) + "\n")


def _folder_entry() -> Path:
    return share_folder() / "applications" / _FOLDER_ENTRY


def _remove_empty(folder: Path) -> None:
    """Remove a folder and those above it, as far as nothing is in them, and no further than ours for shared
    data."""
    while share_folder() in folder.parents:
        try:
            folder.rmdir()
        except OSError:
            return
        folder = folder.parent
