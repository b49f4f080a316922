"""Earlier versions in the menus of file managers: what is written, and that nothing of it stays."""

from __future__ import annotations

import os
import subprocess
import sys
import types
from pathlib import Path
from typing import Any
from unittest import mock
from xml.etree import ElementTree

from hypothesis import given
from hypothesis import strategies as st

from good_tide.core.errors import PersonError
from good_tide.core.identifiers import JobId
from good_tide.core.settings import Job
from good_tide.system import covered_list, folder_programs, thunar_actions
from good_tide.system.file_managers import MANAGERS, FileManagers, take_covered
from good_tide.system.jobs import own_settings_folder, remove_job, save_job
from good_tide.system.shared_files import SharedFiles
from tests.support.base import GoodTideTest

_PROGRAM = "/opt/good tide/bin/good-tide"
_USERS = b"""<?xml version="1.0" encoding="UTF-8"?>
<!-- mine -->
<actions>
<action><icon/><name>Send \xe2\x80\xa6</name><unique-id>17-1</unique-id><command>send %F</command></action>
</actions>
"""
_MIXED = "[Default Applications]\ninode/directory=other.desktop;\ntext/plain=pad.desktop\n"


class ManagersTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        programs = self.folder / "bin"
        programs.mkdir()
        for one in MANAGERS:
            (programs / one.program).write_text("#!/bin/sh\n")
            (programs / one.program).chmod(0o755)
        patch = mock.patch.dict(
            os.environ,
            {
                "PATH": f"{programs}:{os.environ['PATH']}",
                "XDG_CONFIG_DIRS": str(self.folder / "etc"),
                "XDG_DATA_DIRS": str(self.folder / "share"),
            },
        )
        patch.start()
        self.addCleanup(patch.stop)
        for folder in ("xdg_data_home", "xdg_config_home"):
            (self.folder / folder).mkdir()
        self.managers = FileManagers(self.folder / "notes" / "shared.json")

    def everything(self) -> dict[Path, tuple[int, bytes]]:
        """All files in the person's folders, with mode and content; and no empty folder of a manager's."""
        above = [self.folder / name for name in ("xdg_data_home", "xdg_config_home", "notes")]
        self.assertFalse(thunar_actions.actions_file().parent.is_dir() and not any(above[1].glob("Thunar/*")))
        files = [file for folder in above for file in folder.rglob("*") if file.is_file()]
        return {file: (file.stat().st_mode, file.read_bytes()) for file in files}

    def test_it_is_put_into_all_and_goes_without_a_trace(self) -> None:
        thunar, choices = thunar_actions.actions_file(), folder_programs.associations_file()
        for users, mixed in ((None, None), (_USERS, _MIXED)):
            if users is not None and mixed is not None:
                thunar.parent.mkdir(exist_ok=True)
                thunar.write_bytes(users)
                choices.write_text(mixed)
            before = self.everything()
            for _ in range(2):  # again changes nothing
                done = self.managers.install(_PROGRAM, ["/home/ada", "/srv/scores"])
            self.assertEqual(done, [one.name for one in MANAGERS])
            self.assertTrue(all(one.installed for one in self.managers.standings()))
            ElementTree.fromstring(thunar.read_bytes())
            self.assertEqual(thunar.read_bytes().count(b"<unique-id>good-tide-"), 2)
            self.managers.remove()
            self.assertFalse(any(one.installed for one in self.managers.standings()))
            self.assertEqual(self.everything(), before)

    def test_what_somebody_changed_meanwhile_stays(self) -> None:
        self.managers.install(_PROGRAM, [])
        thunar, choices = thunar_actions.actions_file(), folder_programs.associations_file()
        added = b"<action><name>New</name><unique-id>1</unique-id></action>\n</actions>"
        thunar.write_bytes(thunar.read_bytes().replace(b"</actions>", added))
        choices.write_text(choices.read_text() + "text/plain=pad.desktop;\n")
        self.managers.remove()
        self.assertEqual(thunar.read_bytes().count(b"<unique-id>"), 1)
        self.assertIn(b"<name>New</name>", thunar.read_bytes())
        self.assertEqual(choices.read_text(), "[Added Associations]\ntext/plain=pad.desktop;\n")

    def test_actions_that_cannot_be_understood_are_left_as_they_are(self) -> None:
        thunar = thunar_actions.actions_file()
        thunar.parent.mkdir()
        thunar.write_bytes(b"<actions><action>")
        with self.assertRaises(PersonError):
            self.managers.install(_PROGRAM, [])
        self.assertEqual(thunar.read_bytes(), b"<actions><action>")

    def test_the_systems_actions_stay_when_the_person_had_none(self) -> None:
        system = self.folder / "etc" / "Thunar" / "uca.xml"
        system.parent.mkdir(parents=True)
        system.write_bytes(_USERS)
        self.managers.install(_PROGRAM, [])
        self.assertIn("Send …".encode(), thunar_actions.actions_file().read_bytes())

    def test_the_entries_are_valid_and_name_the_program_whole(self) -> None:
        self.managers.install(_PROGRAM, ["/home/ada"])
        share = self.folder / "xdg_data_home"
        entry = share / "applications" / "good-tide-folder.desktop"
        subprocess.run(["desktop-file-validate", entry], check=True)
        for file in [*(share / "kio").rglob("*.desktop"), *(share / "file-manager").rglob("*.desktop")]:
            self.assertIn(f'Exec="{_PROGRAM}" window ', file.read_text())
            self.assertEqual(os.access(file, os.X_OK), "kio" in file.parts, file)
        self.assertIn(
            f"<command>'{_PROGRAM}' window -- %f</command>", thunar_actions.actions_file().read_text()
        )

    def test_other_covered_folders_reach_the_list_and_the_actions(self) -> None:
        take_covered(["/home/ada"])
        self.assertFalse(covered_list.list_file().exists())  # nothing is installed
        self.managers.install(_PROGRAM, [])
        settings, folder = own_settings_folder(), str(self.work / "a;b")
        job = save_job(settings, Job(name="Office", folders=(folder,), stores=()))
        self.assertEqual(covered_list.read_list(), [folder])
        action = self.folder / "xdg_data_home/file-manager/actions/good-tide-missing.desktop"
        escaped = folder.replace(";", "\\;")
        self.assertIn(f"\nFolders={escaped};{escaped}/*;\n", action.read_text())
        save_job(self.folder / "other settings", Job(name="Demo", folders=("/demo",), stores=()))
        self.assertEqual(covered_list.read_list(), [folder])
        remove_job(settings, JobId(job.id))
        self.assertEqual(covered_list.read_list(), [])


class MenuTest(GoodTideTest):
    """The extension, with a manager that stands in."""

    def menu(self, *covered: bytes) -> Any:
        patch = mock.patch.object(sys, "path", [str(self.folder), *sys.path])
        patch.start()
        self.addCleanup(patch.stop)
        covered_list.list_file().parent.mkdir(parents=True)
        covered_list.list_file().write_bytes(b"".join(one + b"\0" for one in covered))
        nemo = next(one for one in MANAGERS if one.name == "Nemo")
        (text,) = nemo.files(_PROGRAM).values()
        gi, repository = types.ModuleType("gi"), types.ModuleType("gi.repository")
        gi.repository = repository  # type: ignore[attr-defined]
        repository.GObject = types.SimpleNamespace(GObject=type("GObject", (), {}))  # type: ignore[attr-defined]
        manager = types.ModuleType("gi.repository.Nemo")
        manager.MenuProvider = type("MenuProvider", (), {})  # type: ignore[attr-defined]
        manager.MenuItem = mock.Mock(side_effect=lambda **given: mock.Mock(given=given))  # type: ignore[attr-defined]
        modules = {"gi": gi, "gi.repository": repository, "gi.repository.Nemo": manager}
        made: dict[str, Any] = {"__name__": "good_tide_menu"}
        with mock.patch.dict(sys.modules, modules):
            exec(compile(text, "good_tide_menu.py", "exec"), made)
        return made["GoodTideMenu"](), made

    @staticmethod
    def file(uri: str, folder: bool = False) -> Any:
        return mock.Mock(get_uri=lambda: uri, is_directory=lambda: folder)

    def labels(self, items: list[Any]) -> list[str]:
        return [one.given["label"] for one in items]

    def test_it_shows_where_something_is_covered_and_nowhere_else(self) -> None:
        menu, _ = self.menu(b"/home/ada", b"/srv/a\xff")
        for uri, folder, wanted in (
            ("file:///home/ada/x.txt", False, ["Earlier versions"]),
            ("file:///home/ada", True, ["Earlier versions", "What is missing here"]),
            ("file:///home", True, ["Earlier versions", "What is missing here"]),
            ("file:///srv/a%FF/b", False, ["Earlier versions"]),
            ("file:///home/adam/x.txt", False, []),
            ("sftp://harbour/home/ada/x.txt", False, []),
        ):
            self.assertEqual(self.labels(menu.get_file_items([self.file(uri, folder)])), wanted, uri)
        window = mock.Mock()
        both = [self.file("file:///home/ada/x"), self.file("file:///home/ada/y")]
        self.assertEqual(menu.get_file_items(window, both), [])
        self.assertEqual(menu.get_file_items(window, []), [])
        background = menu.get_background_items(window, self.file("file:///home/ada", True))
        names = {one.given["name"] for one in background}
        names |= {one.given["name"] for one in menu.get_file_items([self.file("file:///home/ada", True)])}
        self.assertEqual(len(names), 4)

    def test_it_opens_the_window_at_the_path(self) -> None:
        menu, made = self.menu(b"/home/ada")
        with mock.patch.object(made["subprocess"], "Popen") as begun:
            item = menu.get_file_items([self.file("file:///home/ada/-a%20b", True)])[1]
            _, act, *given = item.connect.call_args[0]
            act(item, *given)
        begun.assert_called_once_with(
            [_PROGRAM, "window", "--missing", "--", b"/home/ada/-a b"], start_new_session=True
        )

    def test_without_the_list_there_is_nothing(self) -> None:
        menu, _ = self.menu(b"/home/ada")
        covered_list.list_file().unlink()
        self.assertEqual(menu.get_file_items([self.file("file:///home/ada/x")]), [])


class SharedFilesTest(GoodTideTest):
    @given(st.none() | st.binary(max_size=20), st.binary(max_size=20), st.binary(max_size=20))
    def test_it_is_byte_for_byte_what_it_was(self, before: bytes | None, first: bytes, second: bytes) -> None:
        file, shared = self.work / "file", SharedFiles(self.folder / "notes.json")
        file.unlink(missing_ok=True)
        if before is not None:
            file.write_bytes(before)
        shared.change(file, first)
        shared.change(file, second)
        self.assertEqual(file.read_bytes(), second)
        shared.take_back(file, lambda text: b"never asked")
        self.assertEqual(file.read_bytes() if file.exists() else None, before)

    def test_a_link_to_where_somebody_keeps_it_stays_one(self) -> None:
        kept, file = self.work / "kept", self.work / "file"
        kept.write_bytes(b"a")
        file.symlink_to(kept)
        shared = SharedFiles(self.folder / "notes.json")
        shared.change(file, b"b")
        self.assertEqual((file.is_symlink(), kept.read_bytes()), (True, b"b"))
        shared.take_back(file, lambda text: text)
        self.assertEqual((file.is_symlink(), kept.read_bytes()), (True, b"a"))

    def test_the_mode_stays(self) -> None:
        file, shared = self.work / "file", SharedFiles(self.folder / "notes.json")
        file.write_bytes(b"a")
        file.chmod(0o600)
        shared.change(file, b"b")
        self.assertEqual(file.stat().st_mode & 0o777, 0o600)


class FolderProgramsTest(GoodTideTest):
    def test_ours_comes_behind_the_others_and_goes_again(self) -> None:
        add, take = folder_programs.with_program, folder_programs.without_program
        for before, wanted in (
            ("", "[Added Associations]\ninode/directory=files.desktop;own.desktop;\n"),
            (_MIXED, _MIXED + "\n[Added Associations]\ninode/directory=files.desktop;own.desktop;\n"),
            ("[Added Associations]\na/b=c;\n\n[X]\n", None),
            ("[Added Associations]\ninode/directory=a.desktop;b.desktop\n[X]\ninode/directory=z;\n", None),
        ):
            after = add(before, "own.desktop", "files.desktop")
            if wanted is not None:
                self.assertEqual(after, wanted)
            self.assertEqual(add(after, "own.desktop", "files.desktop"), after)
            self.assertNotIn("own.desktop", take(after, "own.desktop"))
        self.assertIn("inode/directory=a.desktop;b.desktop;own.desktop;\n", after)

    def test_the_usual_program_is_the_one_the_desktop_takes(self) -> None:
        share, config = self.folder / "share", self.folder / "xdg_config_home"
        (share / "applications").mkdir(parents=True)
        config.mkdir()
        with mock.patch.dict(os.environ, {"XDG_DATA_DIRS": str(share), "XDG_CURRENT_DESKTOP": "Stage"}):
            self.assertEqual(folder_programs.usual_program(), "")
            for name in ("a", "b", "c"):
                Path(share / "applications" / f"{name}.desktop").touch()
            cache = share / "applications" / "mimeinfo.cache"
            cache.write_text("[MIME Cache]\ninode/directory=away.desktop;a.desktop;\n")
            self.assertEqual(folder_programs.usual_program(), "a.desktop")
            (share / "applications" / "stage-mimeapps.list").write_text(
                "[Default Applications]\ninode/directory=b.desktop\n"
            )
            self.assertEqual(folder_programs.usual_program(), "b.desktop")
            (config / "mimeapps.list").write_text("[Default Applications]\ninode/directory=c.desktop\n")
            self.assertEqual(folder_programs.usual_program(), "c.desktop")
