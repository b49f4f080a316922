"""Kinds of files, each by exactly the endings and names that it catches."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Mapping

import msgspec

from good_tide.core.errors import PersonError
from good_tide.core.translation import tr

_NAME = re.compile(r"[^\W\dA-Z_][^\WA-Z_]{0,29}", re.UNICODE)
_ENDING = re.compile(r"[^\s./\\]{1,40}")


class Kind(msgspec.Struct, frozen=True):
    """One kind of file.

    :param title: the name shown to people.
    :param endings: what comes after the last dot, in small letters; capitals in a file's name do not matter.
    :param names: whole names of files, with ``*`` and ``?``.
    :param folders: names of folders all of whose contents belong to the kind.
    """

    title: str
    endings: frozenset[str]
    names: tuple[str, ...] = ()
    folders: frozenset[str] = frozenset()

    def catches(self, name: str) -> bool:
        """Whether a file of this name is of the kind."""
        return ending(name) in self.endings or any(
            re.match(fnmatch.translate(one), name) for one in self.names
        )

    @property
    def words(self) -> str:
        """Everything that it catches, as a sentence says it."""
        parts = [", ".join(f".{one}" for one in sorted(self.endings))]
        parts += [tr("files named {names}").format(names=", ".join(self.names))] if self.names else []
        parts += (
            [tr("everything in folders named {sorted}").format(sorted=", ".join(sorted(self.folders)))]
            if self.folders
            else []
        )
        return "; ".join(part for part in parts if part)


def ending(name: str) -> str:
    """What comes after the last dot of a name, in small letters; empty without one, or when the dot is the
    first character."""
    stem, dot, last = name.rpartition(".")
    return last.lower() if dot and stem else ""


def _endings(words: str) -> frozenset[str]:
    return frozenset(words.split())


KINDS: Mapping[str, Kind] = {
    "documents": Kind(
        tr("Documents"),
        _endings(
            "txt md rst tex rtf doc docx dot dotx odt ott fodt pages pdf ps eps epub xls xlsx xlsm ods ots"
            " csv tsv numbers ppt pptx odp key odg vsd vsdx fountain fdx bib ics vcf"
        ),
    ),
    "pictures": Kind(
        tr("Pictures"),
        _endings(
            "jpg jpeg jpe png gif bmp tif tiff webp heic heif avif jxl svg svgz ico psd xcf kra ora raw dng"
            " cr2 cr3 nef arw orf rw2 raf exr hdr ai"
        ),
    ),
    "sound": Kind(
        tr("Sound"), _endings("wav wave aif aiff flac alac mp3 m4a aac ogg oga opus wma mid midi caf ape wv")
    ),
    "video": Kind(
        tr("Video"), _endings("mp4 m4v mov avi mkv webm mpg mpeg mts m2ts wmv flv ogv 3gp mxf vob prores")
    ),
    "archives": Kind(
        tr("Archives and disk images"),
        _endings(
            "zip tar gz tgz bz2 tbz xz txz zst 7z rar lz lzma cab iso img dmg vdi vmdk qcow2 vhd vhdx deb"
            " rpm jar"
        ),
    ),
    "programs": Kind(
        tr("Programs"), _endings("exe msi dll so dylib app appimage flatpakref snap apk class pyc o a lib")
    ),
    "temporary": Kind(
        tr("Temporary and cache files"),
        _endings("tmp temp bak swp swo part crdownload download cache dmp"),
        ("*~", "~$*", ".~lock.*#", "#*#", ".DS_Store", "Thumbs.db", "desktop.ini", "core"),
        frozenset((".cache", "__pycache__", ".thumbnails", "GPUCache", "CacheStorage", "Code Cache")),
    ),
}


_BY_ENDING = {one: word for word, kind in reversed(list(KINDS.items())) for one in kind.endings}
_BY_NAME = [
    (word, re.compile("|".join(map(fnmatch.translate, kind.names))))
    for word, kind in KINDS.items()
    if kind.names
]


def kind_of(name: str) -> str | None:
    """The kind that a file of this name is of: by its ending, or else by its whole name; None: of none."""
    found = _BY_ENDING.get(ending(name))
    return found or next((word for word, pattern in _BY_NAME if pattern.match(name)), None)


def extended(more: Mapping[str, tuple[str, ...]]) -> dict[str, Kind]:
    """The kinds that a job has: further endings of those that everybody has, and kinds of its own."""
    found = dict(KINDS)
    for name, given in more.items():
        known = found.get(name, Kind(name.capitalize(), frozenset()))
        found[name] = msgspec.structs.replace(
            known, endings=known.endings | {one.lower().lstrip(".") for one in given}
        )
    return found


def checked_kinds(more: Mapping[str, tuple[str, ...]]) -> None:
    """Whether kinds of a job's own can be used in rules.

    Raises:
        PersonError: a name or an ending is none.
    """
    for name, given in more.items():
        if not _NAME.fullmatch(name):
            raise PersonError(
                tr("“{name}” cannot name a kind of files").format(name=name),
                tr("Use a word of small letters and digits, such as “scores”"),
            )
        if name not in KINDS and not given:
            raise PersonError(
                tr("The kind “{name}” has no endings").format(name=name), tr("Give some, such as musx")
            )
        for one in given:
            if not _ENDING.fullmatch(one.lower().removeprefix(".")):
                raise PersonError(
                    tr("“{one}” is no ending of file names").format(one=one),
                    tr("Write what comes after the last dot, such as musx"),
                )
