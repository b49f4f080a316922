"""Stores as somebody would make them who wants to do harm: each maker turns a whole store into one. For the
program and ``recover.py``."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable
from pathlib import Path

import msgspec
import zstandard

from good_tide.core.entries import Entry, Extent, Extra, Kind, Reason, Stat
from good_tide.core.identifiers import ChunkId, ContentDigest, MachineId
from good_tide.core.pages import Wire, encode_page
from good_tide.core.records import LeftOut, Machine, SnapshotRecord
from good_tide.storage.content import small_digest
from good_tide.storage.envelope import HEAD_BYTES, FileKind, head
from good_tide.storage.store import Store
from good_tide.storage.writer import WriteSession
from tests.support.base import MACHINE, T0

Maker = Callable[["Hostile"], None]
MAKERS: dict[str, Maker] = {}
FOLDER = b"/office"
"""The covered folder of hostile snapshots."""
ESCAPE = "\x1b]0;owned\x07\x1b[2J"
"""What a terminal would obey: another title, and a cleared screen."""


def maker(make: Maker) -> Maker:
    """Register a maker under its name."""
    MAKERS[make.__name__.replace("_", " ")] = make
    return make


class Hostile:
    """What makers work with.

    :param outside: a folder that nothing may be written to.
    """

    def __init__(self, store: Store, outside: Path) -> None:
        self.store, self.root, self.outside = store, Path(store.place.title), outside

    def file(
        self, name: bytes, content: bytes = b"content", session: WriteSession | None = None, **stat_of: int
    ) -> Entry:
        """A file's entry, its content stored."""
        chunk = self.store.keys.chunk_id(content)
        if session is None:
            with WriteSession(self.store, "hostile-") as own:
                own.put(content)
                own.keep()
        else:
            session.put(content)
        facts = Stat(**{"mode": 0o644, "size": len(content), **stat_of})
        return Entry(
            name, Kind.FILE, facts, small_digest(self.store.keys, content), (Extent(chunk, 0, len(content)),)
        )

    def link(self, name: bytes, target: str | bytes) -> Entry:
        """A link's entry."""
        return Entry(name, Kind.LINK, Stat(mode=0o777), extra=Extra(target=os.fsencode(target)))

    def folder(self, name: bytes, *pages: ChunkId) -> Entry:
        """A folder's entry."""
        return Entry(name, Kind.FOLDER, Stat(mode=0o755), extents=tuple(Extent(page, 0, 0) for page in pages))

    def publish(self, page: bytes, **fields: object) -> None:
        """A snapshot of ``FOLDER`` with this listing."""
        with WriteSession(self.store, "hostile-") as session:
            identity = session.put_page(page)
            session.settle()
            roots = encode_page([self.folder(FOLDER, identity)])
            self.publish_roots(roots, session, **fields)

    def publish_roots(self, roots: bytes, session: WriteSession, **fields: object) -> None:
        """A snapshot with these covered folders."""
        record = msgspec.structs.replace(SnapshotRecord(T0 + 10, MACHINE, roots), **fields)
        session.publish(lambda new, stored: record)

    def seal(self, kind: FileKind, folder: str, body: bytes) -> None:
        """A sealed file with this body, as it would be expanded."""
        seal, begin = self.store.keys.fresh_seal(kind.word), head(kind, self.store.keys.encrypted)
        (self.root / folder).mkdir(exist_ok=True)
        (self.root / folder / seal.name.hex()).write_bytes(begin + seal.seal(0, body, begin))

    def any_file(self, folder: str) -> Path:
        """Some file of a folder of the store."""
        return next(path for path in sorted((self.root / folder).rglob("*")) if path.is_file())


@maker
def a_covered_folder_that_is_a_link_and_one_below_it(hostile: Hostile) -> None:
    with WriteSession(hostile.store, "hostile-") as session:
        page = session.put_page(encode_page([hostile.file(b"harm.txt", session=session)]))
        session.settle()
        roots = [hostile.link(b"/office", str(hostile.outside)), hostile.folder(b"/office/inside", page)]
        hostile.publish_roots(encode_page(roots), session)


@maker
def a_link_and_a_folder_of_one_name(hostile: Hostile) -> None:
    with WriteSession(hostile.store, "hostile-") as session:
        page = session.put_page(encode_page([hostile.file(b"harm.txt", session=session)]))
        session.settle()
        top = session.put_page(
            encode_page([hostile.link(b"a", str(hostile.outside)), hostile.folder(b"a", page)])
        )
        session.settle()
        hostile.publish_roots(encode_page([hostile.folder(FOLDER, top)]), session)


@maker
def a_link_and_a_file_of_one_name_in_two_pages(hostile: Hostile) -> None:
    with WriteSession(hostile.store, "hostile-") as session:
        one = session.put_page(encode_page([hostile.link(b"a", str(hostile.outside / "new.txt"))]))
        two = session.put_page(encode_page([hostile.file(b"a", session=session)]))
        session.settle()
        hostile.publish_roots(encode_page([hostile.folder(FOLDER, one, two)]), session)


def _named(name: bytes) -> Maker:
    def make(hostile: Hostile) -> None:
        hostile.publish(encode_page([hostile.file(name)]))

    return make


for _name in (b"..", b".", b"", b"../harm.txt", b"/harm.txt", b"a/../../harm.txt"):
    MAKERS[f"a file called {_name!r}"] = _named(_name)


@maker
def names_out_of_order(hostile: Hostile) -> None:
    hostile.publish(encode_page([hostile.file(b"b"), hostile.file(b"a")]))


@maker
def a_covered_folder_that_leads_up(hostile: Hostile) -> None:
    with WriteSession(hostile.store, "hostile-") as session:
        page = session.put_page(encode_page([hostile.file(b"harm.txt", session=session)]))
        session.settle()
        hostile.publish_roots(encode_page([hostile.folder(b"/office/../../../harm", page)]), session)


@maker
def a_link_that_holds_a_zero_byte(hostile: Hostile) -> None:
    hostile.publish(encode_page([hostile.link(b"a", b"x\0y")]))


@maker
def attributes_that_give_powers(hostile: Hostile) -> None:
    capability = bytes.fromhex("0100000202000000000000000000000000000000")
    extra = Extra(
        attributes=(
            (b"security.capability", capability),
            (b"trusted.overlay.opaque", b"y"),
            (b"user.fine", b"yes"),
        )
    )
    hostile.publish(
        encode_page(
            [msgspec.structs.replace(hostile.file(b"tool", mode=0o6755, uid=12345, gid=12345), extra=extra)]
        )
    )


@maker
def a_file_of_an_exbibyte_of_holes(hostile: Hostile) -> None:
    size = 1 << 62
    hostile.publish(
        encode_page(
            [
                Entry(
                    b"huge",
                    Kind.FILE,
                    Stat(mode=0o644, size=size),
                    ContentDigest(bytes(16)),
                    (Extent(None, 0, size),),
                )
            ]
        )
    )


@maker
def a_file_whose_parts_do_not_add_up(hostile: Hostile) -> None:
    hostile.publish(encode_page([hostile.file(b"long", size=1000)]))


@maker
def numbers_that_cannot_be(hostile: Hostile) -> None:
    hostile.publish(encode_page([hostile.file(b"odd", mode=-5, size=-7)]))


@maker
def a_reason_that_nobody_knows(hostile: Hostile) -> None:
    entry = Entry(b"left", Kind.LEFT_OUT, extra=Extra(reason="because", detail=ESCAPE))
    hostile.publish(
        encode_page([entry]),
        left_out=(LeftOut(b"/office/left", "because", ESCAPE), LeftOut(b"x", Reason.SPECIAL.value, "")),
    )


@maker
def folders_ten_thousand_deep(hostile: Hostile) -> None:
    with WriteSession(hostile.store, "hostile-") as session:
        page = session.put_page(encode_page([hostile.file(b"bottom", session=session)]))
        for _ in range(10_000):
            page = session.put_page(encode_page([hostile.folder(b"d", page)]))
        session.settle()
        hostile.publish_roots(encode_page([hostile.folder(FOLDER, page)]), session)


def _bomb(change: Callable[[Wire], dict[str, object]]) -> Maker:
    def make(hostile: Hostile) -> None:
        wire = msgspec.msgpack.decode(encode_page([hostile.file(b"a")]), type=Wire)
        hostile.publish(msgspec.msgpack.encode(msgspec.structs.replace(wire, **change(wire))))

    return make


_FOUR_BILLION = bytes([8]) + (2 << 32).to_bytes(8, "little")
MAKERS["a page with sixty million empty names"] = _bomb(
    lambda wire: {"count": 60_000_000, "names": bytes(59_999_999), "kinds": b"f" * 4}
)
MAKERS["a page that says that it has four billion extents"] = _bomb(
    lambda wire: {
        "extent_counts": _FOUR_BILLION,
        "extent_chunks": b"\0",
        "extent_offsets": b"\0",
        "extent_lengths": b"\0",
    }
)
MAKERS["a page with millions of extras"] = _bomb(
    lambda wire: {
        "extras": msgspec.Raw(
            b"\xdf"
            + (8_000_000).to_bytes(4, "big")
            + b"".join(b"\xce" + n.to_bytes(4, "big") + b"\x80" for n in range(8_000_000))
        )
    }
)
MAKERS["a page with a negative count"] = _bomb(lambda wire: {"count": -1})
MAKERS["a page nested deeply"] = _bomb(
    lambda wire: {"extras": msgspec.Raw(b"\x81\x00" + b"\x91" * 100_000 + b"\x00")}
)


@maker
def a_snapshot_that_expands_to_a_gibibyte(hostile: Hostile) -> None:
    hostile.seal(FileKind.SNAPSHOT, "snapshots", b"\1" + zstandard.ZstdCompressor().compress(bytes(1 << 30)))


@maker
def an_index_that_is_nested_deeply(hostile: Hostile) -> None:
    hostile.seal(FileKind.INDEX, "index", b"\0" + b"\x91" * 1_000_000 + b"\x00")


@maker
def a_snapshot_that_is_nested_deeply(hostile: Hostile) -> None:
    hostile.seal(FileKind.SNAPSHOT, "snapshots", b"\0\x81\xa1x" + b"\x91" * 1_000_000 + b"\x00")


@maker
def a_snapshot_from_beyond_all_time(hostile: Hostile) -> None:
    hostile.publish(encode_page([hostile.file(b"a")]), time=(1 << 64) - 1)


@maker
def an_index_with_columns_that_do_not_fit(hostile: Hostile) -> None:
    table = {
        "pack": bytes(16),
        "holds": 7,
        "ids": bytes(5),
        "stored": b"",
        "plain": b"",
        "squeezed": bytes(1000),
    }
    hostile.seal(FileKind.INDEX, "index", b"\0" + msgspec.msgpack.encode([table]))


@maker
def words_that_a_terminal_obeys(hostile: Hostile) -> None:
    name = b"a\x1b[2Jb"
    machine = Machine(MachineId("e5" * 16), f"desk {ESCAPE}")
    hostile.publish(
        encode_page([hostile.file(name), hostile.link(b"l", ESCAPE)]), machine=machine, label=ESCAPE
    )


def _replaced(folder: str, put: Callable[[Path], object]) -> Maker:
    def make(hostile: Hostile) -> None:
        file = hostile.any_file(folder) if folder else hostile.root / "store.json"
        file.unlink()
        put(file)

    return make


def _sparse(file: Path) -> None:
    with file.open("wb") as new:
        new.truncate(100 << 30)


for _folder in ("", "keys", "index", "snapshots", "packs"):
    _where = _folder or "store.json"
    MAKERS[f"a pipe in {_where}"] = _replaced(_folder, os.mkfifo)
    MAKERS[f"100 GiB of nothing in {_where}"] = _replaced(_folder, _sparse)
    MAKERS[f"a link to an endless device in {_where}"] = _replaced(
        _folder, lambda file: file.symlink_to("/dev/zero")
    )
    MAKERS[f"a folder in {_where}"] = _replaced(_folder, lambda file: file.mkdir())


@maker
def a_device_for_an_index(hostile: Hostile) -> None:
    try:
        os.mknod(hostile.root / "index" / ("ab" * 16), stat.S_IFCHR | 0o600, os.makedev(1, 5))
    except OSError:
        os.mkfifo(hostile.root / "index" / ("ab" * 16))


@maker
def folders_of_the_store_that_are_links(hostile: Hostile) -> None:
    for name in ("index", "packs"):
        moved = hostile.root.parent / f"moved {name}"
        (hostile.root / name).rename(moved)
        (hostile.root / name).symlink_to(moved)


@maker
def a_store_with_a_path_for_an_id(hostile: Hostile) -> None:
    header = hostile.root / "store.json"
    header.write_bytes(
        header.read_bytes().replace(
            hostile.store.header.store.encode(), b"../../../../" + os.fsencode(hostile.outside)[:60]
        )
    )


@maker
def a_header_that_is_nested_deeply(hostile: Hostile) -> None:
    (hostile.root / "store.json").write_bytes(b'{"x": ' + b"[" * 30_000 + b"]" * 30_000 + b"}")


@maker
def a_pack_that_ends_in_the_middle(hostile: Hostile) -> None:
    file = hostile.any_file("packs")
    file.write_bytes(file.read_bytes()[: HEAD_BYTES + 3])


@maker
def ten_thousand_key_slots(hostile: Hostile) -> None:
    slot = hostile.any_file("keys").read_bytes()
    for number in range(10_000):
        (hostile.root / "keys" / f"{number:08x}.json").write_bytes(slot)
