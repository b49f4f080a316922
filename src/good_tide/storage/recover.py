#!/usr/bin/env python3
"""Take files out of a Good Tide store without Good Tide.

Needs Python 3.9 or newer and two packages: "cryptography" (44 or newer) and "zstandard".

    python3 recover.py list                                 the snapshots of the store that this script lies in
    python3 recover.py list SNAPSHOT                        every path in one snapshot
    python3 recover.py extract SNAPSHOT TARGET [PATH ...]   all of it, or only these paths, into a new folder

SNAPSHOT is a name from the list, the start of one, or "latest". Options: --store DIR, --passphrase-file FILE.
Everything read is authenticated before it is written. Ownership is restored where the system permits it.
"""

import argparse
import base64
import getpass
import hashlib
import json
import os
import struct
import sys
import unicodedata
from datetime import datetime

import zstandard
from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.argon2 import Argon2id
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

ALPHABET = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"


class Problem(Exception):
    """Something to tell the person."""


def unpack(data):
    """Decode one MessagePack value (the types that a store uses)."""

    def take(count):
        nonlocal at
        piece = data[at : at + count]
        if len(piece) != count:
            raise Problem("a stored record is cut short")
        at += count
        return piece

    def number(form, count):
        return struct.unpack(">" + form, take(count))[0]

    def value():
        tag = take(1)[0]
        if tag < 0x80:
            return tag
        if tag >= 0xE0:
            return tag - 256
        if tag < 0x90:
            return mapping(tag & 15)
        if tag < 0xA0:
            return [value() for _ in range(tag & 15)]
        if tag < 0xC0:
            return take(tag & 31).decode("utf-8", "surrogateescape")
        simple = {0xC0: None, 0xC2: False, 0xC3: True}
        if tag in simple:
            return simple[tag]
        numbers = {0xCA: ("f", 4), 0xCB: ("d", 8), 0xCC: ("B", 1), 0xCD: ("H", 2), 0xCE: ("I", 4), 0xCF: ("Q", 8)}
        numbers.update({0xD0: ("b", 1), 0xD1: ("h", 2), 0xD2: ("i", 4), 0xD3: ("q", 8)})
        if tag in numbers:
            return number(*numbers[tag])
        sizes = {0: ("B", 1), 1: ("H", 2), 2: ("I", 4)}
        if 0xC4 <= tag <= 0xC6:
            return bytes(take(number(*sizes[tag - 0xC4])))
        if 0xD9 <= tag <= 0xDB:
            return take(number(*sizes[tag - 0xD9])).decode("utf-8", "surrogateescape")
        if 0xDC <= tag <= 0xDD:
            return [value() for _ in range(number(*sizes[tag - 0xDC + 1]))]
        if 0xDE <= tag <= 0xDF:
            return mapping(number(*sizes[tag - 0xDE + 1]))
        raise Problem("a stored record holds an unknown type")

    def mapping(count):
        result = {}
        for _ in range(count):
            key = value()
            result[key] = value()
        return result

    at = 0
    return value()


def derive(secret, purpose, salt=b""):
    return HKDF(algorithm=SHA256(), length=32, salt=salt or None, info=b"good-tide 1 " + purpose).derive(secret)


def column(data, count):
    """Decode a column of integers: planes of bytes, folded differences."""
    used = data[0]
    result, total = [], 0
    for row in range(count):
        folded = 0
        for plane in range(used):
            folded |= data[1 + plane * count + row] << (8 * plane)
        total += (folded >> 1) ^ -(folded & 1)
        result.append((total + (1 << 63)) % (1 << 64) - (1 << 63))
    return result


class Store:
    def __init__(self, root, ask):
        self.root = root
        header_bytes = self.read("store.json")
        header = json.loads(header_bytes)
        if header["format"] > 1 or header.get("features"):
            raise Problem("this store is of a newer format; take the recover.py that lies in it")
        self.encrypted = header["encrypted"]
        self.secret = self.unlock(hashlib.sha256(header_bytes).digest(), ask)[:32]
        self.where = {}
        for name in sorted(os.listdir(os.path.join(root, "index"))):
            try:
                self.take_index(unpack(self.whole(2, "index", name)))
            except Problem as problem:
                print(f"index/{name}: {problem}; going on without it", file=sys.stderr)

    def take_index(self, tables):
        for table in tables:
            name = table["pack"].hex()
            if not os.path.exists(os.path.join(self.root, "packs", name[0], name)):
                continue  # a sweep was cut off after it deleted the pack, which nothing needs
            offset = 8
            for number in range(len(table["squeezed"])):
                stored, plain = (int.from_bytes(table[key][4 * number : 4 * number + 4], "little") for key in ("stored", "plain"))
                identity = table["ids"][32 * number : 32 * number + 32]
                self.where[identity] = (table["pack"], number, offset, stored, plain, table["squeezed"][number])
                offset += stored

    def read(self, name, offset=0, length=-1):
        with open(os.path.join(self.root, name), "rb") as file:
            file.seek(offset)
            return file.read(length)

    def unlock(self, binding, ask):
        slots = []
        for name in sorted(os.listdir(os.path.join(self.root, "keys"))):
            if name.endswith(".json"):
                try:
                    slots.append(json.loads(self.read("keys/" + name))["slot"])
                except (ValueError, KeyError):
                    print(f"keys/{name} is damaged; going on without it", file=sys.stderr)
        if not self.encrypted:
            return next(base64.b64decode(slot["sealed"]) for slot in slots if slot["kind"] == "open")
        hint = next((slot["hint"] for slot in slots if slot.get("hint")), "")
        words = ask(hint)
        digits = "".join(c for c in words.upper() if c.isalnum()).translate(str.maketrans("ILOU", "110V"))
        for slot in slots:
            typed = digits if slot["kind"] == "recovery" else words
            if slot["kind"] == "recovery" and (len(digits) != 36 or set(digits) - set(ALPHABET)):
                continue
            cost = slot["cost"]
            if cost["memory_kib"] > 1024 * 1024 or cost["passes"] > 64:
                continue
            stretched = Argon2id(
                salt=base64.b64decode(slot["salt"]),
                length=32,
                iterations=cost["passes"],
                lanes=cost["lanes"],
                memory_cost=cost["memory_kib"],
            ).derive(unicodedata.normalize("NFC", typed).encode())
            try:
                return AESGCM(derive(stretched, b"slot")).decrypt(bytes(12), base64.b64decode(slot["sealed"]), binding)
            except InvalidTag:
                continue
        raise Problem("the passphrase does not open this store")

    def open(self, kind, name, number, sealed, context):
        key = derive(self.secret, kind, name)
        nonce = number.to_bytes(12, "big")
        if self.encrypted:
            try:
                return AESGCM(key).decrypt(nonce, sealed, context)
            except InvalidTag:
                raise Problem("damaged: the bytes were changed after they were written") from None
        hasher = hashlib.blake2b(nonce + len(context).to_bytes(4, "big") + context, key=key, digest_size=16)
        hasher.update(sealed[:-16])
        if hasher.digest() != sealed[-16:]:
            raise Problem("damaged: the bytes were changed after they were written")
        return sealed[:-16]

    def whole(self, kind, folder, name):
        data = self.read(folder + "/" + name)
        if data[:8] != b"GDTD" + bytes([1, kind, int(self.encrypted), 0]):
            raise Problem("damaged: it does not begin as it must")
        body = self.open({2: b"index", 3: b"snapshot"}[kind], bytes.fromhex(name), 0, data[8:], data[:8])
        return zstandard.ZstdDecompressor().decompress(body[1:]) if body[:1] == b"\1" else body[1:]

    def chunk(self, identity):
        if identity not in self.where:
            raise Problem("damaged: a needed chunk is in no index")
        pack, number, offset, stored, plain, squeezed = self.where[identity]
        name = pack.hex()
        sealed = self.read(f"packs/{name[0]}/{name}", offset, stored)
        context = identity + plain.to_bytes(4, "little") + bytes([squeezed])
        body = self.open(b"pack", pack, number, sealed, context)
        return zstandard.ZstdDecompressor().decompress(body) if squeezed else body

    def snapshots(self):
        found = []
        for name in os.listdir(os.path.join(self.root, "snapshots")):
            try:
                found.append((name, unpack(self.whole(3, "snapshots", name))))
            except Problem as problem:
                print(f"snapshots/{name}: {problem}", file=sys.stderr)
        return sorted(found, key=lambda item: item[1]["time"])

    def page(self, data, rooted=False):
        """Entries of a page, in the columns' order of docs/format.md."""
        (count, names, kinds, mode, uid, gid, size, modified, _, _, digests, counts, chunks, offsets, lengths, table, extras) = unpack(data)
        names = names.split(b"\0") if count else []
        numbers = [column(part, count) for part in (mode, uid, gid, size, modified, counts)]
        total = sum(numbers[5])
        extents = list(zip(column(chunks, total), column(offsets, total), column(lengths, total)))
        at = 0
        for row, name in enumerate(names):
            parts = name.split(b"/")
            if (not rooted and len(parts) > 1) or name in (b"", b".", b"..") or b".." in parts:
                raise Problem(f"damaged: an impossible name {name!r}")
            own = extents[at : at + numbers[5][row]]
            at += numbers[5][row]
            yield {
                "name": name,
                "kind": chr(kinds[row]),
                "stat": [number[row] for number in numbers[:5]],
                "extents": [(None if c == 0 else table[32 * c - 32 : 32 * c], o, n) for c, o, n in own],
                "extra": extras.get(row, {}),
            }

    def listing(self, entry):
        for identity, _, _ in entry["extents"]:
            yield from self.page(self.chunk(identity))


def walk(store, entry, path):
    """Every entry below and including ``entry``, parents first."""
    yield path, entry
    if entry["kind"] == "d":
        for child in store.listing(entry):
            yield from walk(store, child, path.rstrip(b"/") + b"/" + child["name"])


def extract(store, record, target, wanted):
    os.makedirs(target, exist_ok=True)
    if os.listdir(target):
        raise Problem(f"{target} is not empty; name a new folder")
    target = os.fsencode(os.path.realpath(target))
    links, folders, failed = {}, [], 0
    for root in store.page(record["roots"], rooted=True):
        for path, entry in walk(store, root, root["name"]):
            if wanted and not any(path == want or path.startswith(want.rstrip(b"/") + b"/") for want in wanted):
                continue
            out = target + b"/" + path.lstrip(b"/")
            os.makedirs(os.path.dirname(out), exist_ok=True)
            try:
                place(store, entry, out, links, folders)
            except (Problem, OSError) as problem:
                failed += 1
                print(f"{os.fsdecode(path)}: {problem}", file=sys.stderr)
    for out, entry in reversed(folders):
        metadata(out, entry)
    return failed


def place(store, entry, out, links, folders):
    kind, extra = entry["kind"], entry["extra"]
    if kind == "x":
        return
    if kind == "d":
        os.makedirs(out, exist_ok=True)
        folders.append((out, entry))
        return
    group = tuple(extra.get("link_group") or ())
    if group and group in links:
        os.link(links[group], out, follow_symlinks=False)
        return
    if kind == "l":
        os.symlink(extra["target"], out)
    else:
        with open(out, "xb") as file:
            for identity, offset, length in entry["extents"]:
                if identity is None:
                    file.seek(length, 1)
                else:
                    file.write(store.chunk(identity)[offset : offset + length])
            file.truncate(entry["stat"][3])
    metadata(out, entry)
    if group:
        links[group] = out


def metadata(out, entry):
    mode, uid, gid, _, modified = entry["stat"]
    link = entry["kind"] == "l"
    try:
        os.chown(out, uid, gid, follow_symlinks=False)
    except OSError:
        pass
    if not link:
        os.chmod(out, mode)
        for name, value in entry["extra"].get("attributes", ()):
            try:
                os.setxattr(out, name, value)
            except OSError as error:
                print(f"{os.fsdecode(out)}: attribute {name!r} not restored ({error})", file=sys.stderr)
    os.utime(out, ns=(modified, modified), follow_symlinks=False)


def choose(snapshots, wanted):
    hits = snapshots[-1:] if wanted == "latest" else [item for item in snapshots if item[0].startswith(wanted.lower())]
    if len(hits) != 1:
        raise Problem(f"{wanted!r} is the start of {len(hits)} snapshots; see the list")
    return hits[0][1]


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--store", default=os.path.dirname(os.path.abspath(__file__)))
    parser.add_argument("--passphrase-file")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list").add_argument("snapshot", nargs="?")
    out = commands.add_parser("extract")
    out.add_argument("snapshot")
    out.add_argument("target")
    out.add_argument("path", nargs="*")
    given = parser.parse_args()

    def ask(hint):
        if given.passphrase_file:
            with open(given.passphrase_file, encoding="utf-8") as file:
                return file.read().rstrip("\r\n")
        return getpass.getpass(f"Passphrase or recovery key (hint: {hint or 'none'}): ")

    sys.setrecursionlimit(10000)
    try:
        store = Store(given.store, ask)
        snapshots = store.snapshots()
        if given.command == "extract":
            record = choose(snapshots, given.snapshot)
            return 1 if extract(store, record, given.target, [os.fsencode(path) for path in given.path]) else 0
        if given.snapshot:
            for root in store.page(choose(snapshots, given.snapshot)["roots"], rooted=True):
                for path, entry in walk(store, root, root["name"]):
                    print(f"{entry['kind']} {entry['stat'][3]:>14} {os.fsdecode(path)!r}")
        else:
            for name, record in snapshots:
                when = datetime.fromtimestamp(record["time"] / 1e9).isoformat(sep=" ", timespec="seconds")
                print(f"{name}  {when}  {record['machine']['name']}  {record['tally']['files']} files  {record.get('label', '')}")
        return 0
    except Problem as problem:
        print(f"recover.py: {problem}", file=sys.stderr)
        return 3


if __name__ == "__main__":
    sys.exit(main())
