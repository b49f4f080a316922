#!/usr/bin/env python3
"""Take files out of a Good Tide store without Good Tide.

Needs Python 3.9 or newer and the packages "cryptography" and "zstandard"; with a "cryptography" older than 44 also "argon2-cffi".
Debian and Ubuntu: python3-cryptography python3-zstandard python3-argon2. Fedora: python3-cryptography python3-zstandard python3-argon2-cffi.

    python3 recover.py list                                 the snapshots of a store; without --store, of the one it lies in
    python3 recover.py list SNAPSHOT                        every path in one snapshot
    python3 recover.py find WORD ...                        paths with these words in them, and the newest snapshot that has each
    python3 recover.py extract SNAPSHOT TARGET [PATH ...]   all of it, or only these paths, into a new folder

SNAPSHOT is a name from the list, the start of one, or "latest". Options: --store DIR, --passphrase-file FILE; a store opens with
its passphrase or with its recovery key. Ends with 0, 1 when something was not there or not intact, 2 for wrong words, 3 for all else.
Everything read is authenticated before it is written; links are never followed. Ownership is restored where the system permits it.
"""

import argparse
import base64
import getpass
import hashlib
import json
import os
import resource
import stat
import struct
import sys
import unicodedata
from datetime import datetime

MISSING = []
try:
    import zstandard
except ImportError:
    MISSING.append("zstandard")
try:
    from cryptography.exceptions import InvalidTag
    from cryptography.hazmat.primitives.ciphers.aead import AESGCM
    from cryptography.hazmat.primitives.hashes import SHA256
    from cryptography.hazmat.primitives.kdf.hkdf import HKDF
except ImportError:
    MISSING.append("cryptography")
try:
    from cryptography.hazmat.primitives.kdf.argon2 import Argon2id
except ImportError:
    Argon2id = None  # a "cryptography" older than 44
try:
    from argon2 import low_level as argon2
except ImportError:
    argon2 = None
INSTALL = """Install it, with one of these:
    apt install python3-cryptography python3-zstandard python3-argon2
    dnf install python3-cryptography python3-zstandard python3-argon2-cffi
    python3 -m pip install cryptography zstandard argon2-cffi"""

ALPHABET = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
ACLS = (b"system.posix_acl_access", b"system.posix_acl_default")
HEADER_LIMIT, CHUNK_LIMIT = 1 << 16, 1 << 26
BASES_LIMIT = 16 << 20
RECENT_BYTES = 32 * 1024 * 1024
MOST_SLOTS, MOST_ENTRIES, MOST_EXTENTS, DEEPEST, DEEPEST_RECORD, MOST_VALUES = 64, 4096, 1 << 23, 2100, 16, 1 << 22


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

    def value(depth=0):
        nonlocal values
        values += 1
        if depth > DEEPEST_RECORD or values > MOST_VALUES:
            raise Problem("a stored record is nested too deeply, or has too many parts")
        tag = take(1)[0]
        if tag < 0x80:
            return tag
        if tag >= 0xE0:
            return tag - 256
        if tag < 0x90:
            return mapping(tag & 15, depth)
        if tag < 0xA0:
            return [value(depth + 1) for _ in range(tag & 15)]
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
            return [value(depth + 1) for _ in range(number(*sizes[tag - 0xDC + 1]))]
        if 0xDE <= tag <= 0xDF:
            return mapping(number(*sizes[tag - 0xDE + 1]), depth)
        raise Problem("a stored record holds an unknown type")

    def mapping(count, depth):
        result = {}
        for _ in range(count):
            key = value(depth + 1)
            if not isinstance(key, (int, str, bytes)):
                raise Problem("a stored record has an impossible key")
            result[key] = value(depth + 1)
        return result

    at = values = 0
    return value()


def stretch(words, salt, memory, passes, lanes):
    """Argon2id (RFC 9106), 32 bytes, by whichever package has it; memory in KiB."""
    secret = unicodedata.normalize("NFC", words).encode()
    if Argon2id is not None:
        return Argon2id(salt=salt, length=32, iterations=passes, lanes=lanes, memory_cost=memory).derive(secret)
    if argon2 is not None:
        return argon2.hash_secret_raw(secret, salt, passes, memory, lanes, 32, argon2.Type.ID)
    raise Problem(f"this store is encrypted, and neither a \"cryptography\" of 44 or newer nor \"argon2-cffi\" is here. {INSTALL}")


def derive(secret, purpose, salt=b""):
    return HKDF(algorithm=SHA256(), length=32, salt=salt or None, info=b"good-tide 1 " + purpose).derive(secret)


def expand(data, most, against=b""):
    """What zstd made small, with ``against`` for its dictionary; refused before memory is taken if it says that it is
    larger than it may be."""
    try:
        if not 0 <= zstandard.frame_content_size(data) <= most:
            raise Problem("damaged: stored bytes expand to more than they may")
        raw = zstandard.ZstdCompressionDict(against, dict_type=zstandard.DICT_TYPE_RAWCONTENT) if against else None
        return zstandard.ZstdDecompressor(dict_data=raw).decompress(data, max_output_size=most)
    except zstandard.ZstdError:
        raise Problem("damaged: stored bytes cannot be expanded") from None


def as_json(data, name):
    try:
        found = json.loads(data)
    except (ValueError, RecursionError):
        found = None
    if not isinstance(found, dict):
        raise Problem(f"damaged: {name} cannot be read")
    return found


def shown(text):
    """Text for a terminal: without control characters."""
    text = os.fsdecode(text) if isinstance(text, bytes) else text
    return "".join(c if c.isprintable() else c.encode("unicode_escape", "surrogatepass").decode() for c in text)


def column(data, count):
    """Decode a column of integers: planes of bytes, folded differences."""
    used = data[0] if data else 9
    if used > 8 or len(data) != 1 + used * count:
        raise Problem("damaged: a column of numbers has the wrong length")
    result, total = [], 0
    for row in range(count):
        folded = 0
        for plane in range(used):
            folded |= data[1 + plane * count + row] << (8 * plane)
        total += (folded >> 1) ^ -(folded & 1)
        result.append((total + (1 << 63)) % (1 << 64) - (1 << 63))
    return result


def shape(least):
    """How the smallest pack with parity that holds so many bytes lies: bytes of a unit, units, parity units; and its size."""
    for unit, most, dense in ((1024, 1024, True), (2048, 1024, True), (2048, 8192, False), (4096, 1 << 19, False)):
        if least <= most * (unit - 4):
            break
    data = max(1, -(-least // (unit - 4)))
    parity = -(-data * 3 // 100) + (4 if dense else 32)
    while not dense and any(parity % factor == 0 for factor in range(2, int(parity**0.5) + 1)):
        parity += 1
    parity = min(parity, max(data, 5))
    return (unit, data, parity), unit * (1 + data + parity)


def shape_of_file(size):
    """The shape of a pack with parity by the size of its file."""
    low, high = 0, min(size, (1 << 19) * 4092)
    while low < high:
        middle = (low + high) // 2
        low, high = (middle + 1, high) if shape(middle)[1] < size else (low, middle)
    found, whole = shape(low)
    if whole != size:
        raise Problem("damaged: a pack has an impossible size")
    return found


class Store:
    def __init__(self, root, ask):
        self.root = os.open(root, os.O_RDONLY | os.O_DIRECTORY)
        self.headers()
        secrets = self.unlock(ask)
        if len(secrets) != 64:
            raise Problem("damaged: the secrets in the key slot have an impossible length")
        self.secret = secrets[:32]
        self.where = {}
        self.recent = {}
        for name in self.both_names("index"):
            try:
                self.take_index(unpack(self.whole(2, "index", name, 1 << 30)))
            except (Problem, OSError, KeyError, TypeError) as problem:
                print(f"index/{shown(name)}: {problem}; going on with the tables in the packs", file=sys.stderr)
        self.take_unnamed()

    def headers(self):
        """The header and what key slots say that they belong to it; the second copy where the first is damaged."""
        found = []
        for name in ("store.json", "copies/store.json"):
            try:
                data = self.read(name, 0, HEADER_LIMIT)
                header = as_json(data, name)
            except (Problem, OSError):
                continue
            if header.get("format", 0) > 2 or header.get("features") not in (None, [], ["leaning"]):
                raise Problem("this store is of a newer format; take the recover.py of the program that made it")
            found.append((data, header))
        if not found:
            raise Problem("there is no store here, or store.json is damaged")
        slots = [self.slot_header(name) for name in self.both_names("keys")]
        self.header_bytes, header = next((one for one in found if hashlib.sha256(one[0]).hexdigest() in slots), found[0])
        self.encrypted = bool(header.get("encrypted"))

    def slot_header(self, name):
        for folder in ("keys", "copies/keys"):
            try:
                return as_json(self.read(f"{folder}/{name}", 0, HEADER_LIMIT), name).get("header")
            except (Problem, OSError):
                continue
        return None

    def both_names(self, folder):
        """Names in a folder, those included of which only the second copy is left."""
        return sorted({*self.names(folder), *self.names(f"copies/{folder}")})

    def take_unnamed(self):
        """The tables of packs that no index names: an index file may be lost."""
        named = {place[0] for places in self.where.values() for place in places}
        for folder in self.names("packs"):
            for name in self.names(f"packs/{folder}"):
                if len(name) != 32 or set(name) - set("0123456789abcdef") or bytes.fromhex(name) in named:
                    continue
                try:
                    self.take_index([self.table(bytes.fromhex(name))])
                except (Problem, OSError, KeyError, TypeError) as problem:
                    print(f"packs/{folder}/{name}: {problem}; going on without it", file=sys.stderr)

    def table(self, pack):
        """The table at the end of a pack."""
        file, name = f"packs/{pack.hex()[0]}/{pack.hex()}", pack.hex()
        begin, size = self.read(file, 0, 8), self.size(file)
        parity = begin[7:8] == b"\1"
        end = size
        if parity:
            unit, data, _ = shape_of_file(size)
            end = 8 + data * (unit - 4)
        foot = self.stored(pack, size if parity else 0, end - 8, 8)
        length = int.from_bytes(foot[:4], "little")
        if begin[:4] != b"GDTD" or foot[4:] != b"DTDG" or not 0 < length <= end - 16:
            raise Problem("damaged: it does not end as a pack must")
        at = end - 8 - length
        body = self.open(b"pack", pack, (1 << 64) - 1, self.stored(pack, size if parity else 0, at, length), at.to_bytes(8, "little"))
        if begin[4] > 1:
            body = body[4 : 4 + int.from_bytes(body[:4], "little")]
        table = unpack(expand(body[1:], 1 << 28) if body[:1] == b"\1" else body[1:])
        table["size"] = size if parity else 0
        if table["pack"] != pack:
            raise Problem(f"damaged: the table of {name} belongs to another pack")
        return table

    def stored(self, pack, size, offset, length):
        """Bytes of a pack as its table counts them; ``size``: of the file of a pack with parity, whose units lie between
        parity units."""
        file = f"packs/{pack.hex()[0]}/{pack.hex()}"
        if not size:
            return self.read(file, offset, length)
        unit, data, parity = shape_of_file(size)
        payload, stride, at, found = unit - 4, max(1, data // parity), offset - 8, []
        end = min(at + length, data * payload)
        if at >= end:
            return b""

        def place(number):
            return unit * (1 + number + min(number // stride, parity))

        first = place(at // payload)
        whole = self.read(file, first, place((end - 1) // payload) + unit - first)
        while at < end:
            number, inside = divmod(at, payload)
            until = min(end, (number + 1) * payload)
            begin = place(number) - first + inside
            found.append(whole[begin : begin + until - at])
            at = until
        return b"".join(found)

    def size(self, name):
        above, _, last = name.rpartition("/")
        folder = self.folder(above)
        try:
            return os.stat(last, dir_fd=folder, follow_symlinks=False).st_size
        finally:
            os.close(folder)

    def take_index(self, tables):
        for table in tables:
            pack, ids, count = table["pack"], table["ids"], len(table["squeezed"])
            if (len(pack), len(ids), len(table["stored"]), len(table["plain"])) != (16, 32 * count, 4 * count, 4 * count):
                raise Problem("damaged: a table of chunks contradicts itself")
            bases = self.bases(table)
            if not self.is_file(f"packs/{pack.hex()[0]}/{pack.hex()}"):
                continue  # a sweep was cut off after it deleted the pack, which nothing needs
            offset = 8
            for number in range(count):
                stored, plain = (int.from_bytes(table[key][4 * number : 4 * number + 4], "little") for key in ("stored", "plain"))
                chunk = ids[32 * number : 32 * number + 32]
                form = table["squeezed"][number]
                place = (pack, number, offset, stored, plain, form, int(table.get("size", 0)), bases.get(number, b""))
                self.where.setdefault(chunk, []).append(place)
                offset += stored

    def bases(self, table):
        """What chunks of a pack lean on: by their numbers, the identities of others, one after the other."""
        found, at, ids = {}, 0, table.get("bases", b"")
        leaning = [number for number, form in enumerate(table["squeezed"]) if form == 2]
        if len(leaning) != len(table.get("leaning", b"")) or len(ids) != 32 * sum(table.get("leaning", b"")):
            raise Problem("damaged: a table of chunks contradicts itself")
        for number, count in zip(leaning, table.get("leaning", b"")):
            found[number] = ids[at : at + 32 * count]
            at += 32 * count
        return found

    def folder(self, name):
        """A handle of a folder of the store; links are not followed."""
        return descend(self.root, [part for part in name.split("/") if part])

    def names(self, folder):
        try:
            handle = self.folder(folder)
        except FileNotFoundError:
            return []
        try:
            return sorted(os.listdir(handle))
        finally:
            os.close(handle)

    def is_file(self, name):
        above, _, last = name.rpartition("/")
        try:
            handle = self.folder(above)
        except OSError:
            return False
        try:
            return stat.S_ISREG(os.stat(last, dir_fd=handle, follow_symlinks=False).st_mode)
        except OSError:
            return False
        finally:
            os.close(handle)

    def read(self, name, offset, limit, whole=False):
        """Bytes of a file of the store, ``limit`` at most. What is no file is not opened."""
        above, _, last = name.rpartition("/")
        folder = self.folder(above)
        try:
            info = os.stat(last, dir_fd=folder, follow_symlinks=False)
            if not stat.S_ISREG(info.st_mode):
                raise Problem(f"{name} is no file")
            if whole and info.st_size > limit:
                raise Problem(f"damaged: {name} is larger than it may be")
            handle = os.open(last, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK, dir_fd=folder)
        finally:
            os.close(folder)
        with open(handle, "rb") as file:
            file.seek(offset)
            return file.read(limit)

    def unlock(self, ask):
        binding = hashlib.sha256(self.header_bytes).digest()
        slots, names = [], self.both_names("keys")
        if len(names) > MOST_SLOTS:
            raise Problem(f"the store has {len(names)} key slots, where {MOST_SLOTS} are the most: somebody has put them there")
        for name in names:
            try:
                try:
                    slot = as_json(self.read(f"keys/{name}", 0, HEADER_LIMIT), name)["slot"]
                except (Problem, OSError, KeyError):
                    slot = as_json(self.read(f"copies/keys/{name}", 0, HEADER_LIMIT), name)["slot"]
                cost = slot.get("cost") or {}
                cost = [int(cost.get(key, usual)) for key, usual in (("memory_kib", 65536), ("passes", 3), ("lanes", 2))]
                slots.append(
                    (cost, slot["kind"], base64.b64decode(slot["sealed"]), base64.b64decode(slot.get("salt", "")), slot.get("hint", ""))
                )
            except (ValueError, KeyError, TypeError, AttributeError, OSError, Problem):
                print(f"keys/{shown(name)} is damaged; going on without it", file=sys.stderr)
        if not self.encrypted:
            if not any(slot[1] == "open" for slot in slots):
                raise Problem("damaged: the key slot is missing")
            return next(slot[2] for slot in slots if slot[1] == "open")
        words = ask(next((shown(str(slot[4])) for slot in slots if slot[4]), ""))
        digits = "".join(c for c in words.upper() if c.isalnum()).translate(str.maketrans("ILOU", "110V"))
        work = 0
        for (memory, passes, lanes), kind, sealed, salt, _ in sorted(slots, key=lambda slot: slot[0][0] * slot[0][1]):
            typed = digits if kind == "recovery" else words
            if kind == "open" or (kind == "recovery" and (len(digits) != 36 or set(digits) - set(ALPHABET))):
                continue
            work += memory * passes
            bearable = 8 * lanes <= memory <= 1 << 20 and 1 <= lanes <= 16 and 0 < memory * passes <= 4 << 20 and work <= 12 << 20
            if not bearable or len(salt) < 8:
                print("a key slot asks for more than any may; going on without it", file=sys.stderr)
                continue
            try:
                return AESGCM(derive(stretch(typed, salt, memory, passes, lanes), b"slot")).decrypt(bytes(12), sealed, binding)
            except InvalidTag:
                continue
        raise Problem("neither as a passphrase nor as a recovery key does this open the store")

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

    def whole(self, kind, folder, name, limit):
        if len(name) != 32 or set(name) - set("0123456789abcdef"):
            raise Problem("it does not belong to this store")
        try:
            return self.sealed(kind, folder, name, limit)
        except (Problem, OSError) as first:
            try:
                return self.sealed(kind, f"copies/{folder}", name, limit)
            except (Problem, OSError):
                raise first from None

    def sealed(self, kind, folder, name, limit):
        data = self.read(f"{folder}/{name}", 0, limit, whole=True)
        if data[:4] != b"GDTD" or data[4] not in (1, 2) or data[5:8] != bytes([kind, int(self.encrypted), 0]):
            raise Problem("damaged: it does not begin as it must")
        body = self.open({2: b"index", 3: b"snapshot"}[kind], bytes.fromhex(name), 0, data[8:], data[:8])
        return expand(body[1:], limit) if body[:1] == b"\1" else body[1:]

    def chunk(self, identity, depth=8):
        if identity not in self.where:
            raise Problem("damaged: a needed chunk is in no index")
        if identity in self.recent:
            return self.recent[identity]
        problem = None
        for place in sorted(self.where[identity], key=lambda place: bool(place[-1])):
            try:
                content = self.chunk_at(identity, *place, depth)
            except (Problem, OSError) as error:
                problem = error
                continue
            self.recent[identity] = content
            while sum(map(len, self.recent.values())) > RECENT_BYTES and len(self.recent) > 1:
                del self.recent[next(iter(self.recent))]
            return content
        raise problem

    def chunk_at(self, identity, pack, number, offset, stored, plain, form, size, bases, depth):
        if plain > CHUNK_LIMIT or stored > CHUNK_LIMIT + 16:
            raise Problem("damaged: a chunk has an impossible length")
        sealed = self.stored(pack, size, offset, stored)
        body = self.open(b"pack", pack, number, sealed, identity + plain.to_bytes(4, "little") + bytes([form]) + bases)
        if bases and not depth:
            raise Problem("damaged: a chunk leans on others without end")
        against = b""
        for at in range(0, len(bases), 32):
            against += self.chunk(bases[at : at + 32], depth - 1)
            if len(against) > BASES_LIMIT:
                raise Problem("damaged: a chunk leans on more than it may")
        content = expand(body, plain, against) if form else body
        if len(content) != plain:
            raise Problem("damaged: a chunk is not what it was")
        return content

    def snapshots(self):
        found = []
        for name in self.both_names("snapshots"):
            try:
                record = unpack(self.whole(3, "snapshots", name, 1 << 27))
                found.append(
                    (
                        int(record["time"]),
                        name,
                        record["machine"]["name"],
                        record["tally"]["files"],
                        record.get("label", ""),
                        record["roots"],
                    )
                )
            except (Problem, OSError, KeyError, TypeError, ValueError) as problem:
                print(f"snapshots/{shown(name)}: {problem}", file=sys.stderr)
        return sorted(found)

    def page(self, data, rooted=False):
        """Entries of a page, in the columns' order of docs/format.md; nothing in it is believed."""
        parts = unpack(data)
        if not isinstance(parts, list) or len(parts) != 17:
            raise Problem("damaged: a folder listing cannot be read")
        (count, names, kinds, mode, uid, gid, size, modified, _, _, _, counts, chunks, offsets, lengths, table, extras) = parts
        if not 0 <= count <= MOST_ENTRIES or len(kinds) != count or (count and names.count(b"\0") != count - 1) or len(extras) > count:
            raise Problem("damaged: a folder listing contradicts itself")
        names = names.split(b"\0") if count else []
        for name in names:
            parts = name.split(b"/")
            if (rooted != name.startswith(b"/")) or (not rooted and (len(parts) > 1 or not name)) or b"." in parts or b".." in parts:
                raise Problem(f"damaged: an impossible name {name!r}")
        if any(before >= after for before, after in zip(names, names[1:])):
            raise Problem("damaged: a folder listing is out of order")
        numbers = [column(part, count) for part in (mode, uid, gid, size, modified, counts)]
        total = sum(numbers[5])
        if any(number < 0 for part in (*numbers[:4], numbers[5]) for number in part) or total > MOST_EXTENTS:
            raise Problem("damaged: a folder listing holds numbers that cannot be")
        extents = list(zip(column(chunks, total), column(offsets, total), column(lengths, total)))
        if any(not 0 <= c <= len(table) // 32 or o < 0 or n < 0 for c, o, n in extents):
            raise Problem("damaged: a folder listing points outside its own tables")
        at, entries = 0, []
        for row, name in enumerate(names):
            own = extents[at : at + numbers[5][row]]
            at += numbers[5][row]
            extra = extras.get(row, {})
            if b"\0" in extra.get("target", b""):
                raise Problem("damaged: a link that cannot be")
            entries.append(
                {
                    "name": name,
                    "kind": chr(kinds[row]),
                    "stat": [number[row] for number in numbers[:5]],
                    "extents": [(None if c == 0 else table[32 * c - 32 : 32 * c], o, n) for c, o, n in own],
                    "extra": extra,
                }
            )
        return entries

    def listing(self, entry):
        for identity, offset, length in entry["extents"]:
            content = self.chunk(identity)
            yield from self.page(content[offset : offset + length] if length else content)


def walk(store, roots):
    """Every entry below and including the covered folders, parents first: parts of its path, and the entry or what is wrong with it."""
    waiting = [iter([([part for part in root["name"].split(b"/") if part], root) for root in roots])]
    while waiting:
        found = next(waiting[-1], None)
        if found is None:
            waiting.pop()
            continue
        parts, entry = found
        yield parts, entry, None
        if entry["kind"] == "d":
            try:
                if len(parts) > DEEPEST:
                    raise Problem("damaged: folders are nested more deeply than any snapshot has them")
                below = list(store.listing(entry))
            except (Problem, OSError) as problem:
                yield parts, None, problem
                continue
            waiting.append(iter([([*parts, child["name"]], child) for child in below]))


def descend(handle, parts):
    """A handle of a folder inside another, by the names on the way; a link on it is refused."""
    handle = os.dup(handle)
    for part in parts:
        outer = handle
        try:
            handle = os.open(part, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=outer)
        finally:
            os.close(outer)
    return handle


class Target:
    """The new folder that everything is written below, always by handles and never through a link."""

    def __init__(self, path):
        os.makedirs(path, exist_ok=True)
        if os.listdir(path):
            raise Problem(f"{path} is not empty; name a new folder")
        self.root = os.open(path, os.O_RDONLY | os.O_DIRECTORY)
        self.open, self.links, self.folders = [], {}, []

    def folder(self, parts):
        """A handle of a folder, made with those above it where it is missing."""
        depth = 0
        while depth < min(len(parts), len(self.open)) and self.open[depth][0] == parts[depth]:
            depth += 1
        while len(self.open) > depth:
            os.close(self.open.pop()[1])
        for part in parts[depth:]:
            inside = self.open[-1][1] if self.open else self.root
            try:
                os.mkdir(part, 0o700, dir_fd=inside)
            except FileExistsError:
                pass
            self.open.append((part, descend(inside, [part])))
        return self.open[-1][1] if self.open else self.root

    def place(self, store, parts, entry):
        kind, extra = entry["kind"], entry["extra"]
        if kind == "d":
            self.folder(parts)
            self.folders.append((parts, entry))
        elif kind in ("f", "l") and parts:
            inside, name = self.folder(parts[:-1]), parts[-1]
            group = tuple(extra.get("link_group") or ())
            if group and group in self.links:
                first = descend(self.root, self.links[group][:-1])
                os.link(self.links[group][-1], name, src_dir_fd=first, dst_dir_fd=inside, follow_symlinks=False)
                os.close(first)
                return
            if kind == "l":
                os.symlink(extra.get("target", b""), name, dir_fd=inside)
                os.utime(name, ns=(entry["stat"][4],) * 2, dir_fd=inside, follow_symlinks=False)
            else:
                self.write(store, inside, name, entry)
            if group:
                self.links[group] = parts

    def write(self, store, inside, name, entry):
        size, at = entry["stat"][3], 0
        if sum(length for _, _, length in entry["extents"]) != size:
            raise Problem("damaged: the stored parts do not add up to the file")
        handle = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600, dir_fd=inside)
        with open(handle, "wb", buffering=0) as file:
            try:
                for identity, offset, length in entry["extents"]:
                    if identity is not None:
                        piece = store.chunk(identity)[offset : offset + length]
                        if len(piece) != length:
                            raise Problem("damaged: a chunk is shorter than the file needs")
                        file.seek(at)
                        while piece:
                            piece = piece[file.write(piece) :]
                    at += length
                file.truncate(size)
            except BaseException:
                os.unlink(name, dir_fd=inside)
                raise
            self.metadata(handle, entry, name)

    def metadata(self, handle, entry, name):
        """Owner, permissions, attributes and times. Bits and attributes that give powers only with the owner."""
        mode, uid, gid, _, modified = entry["stat"]
        try:
            os.fchown(handle, uid, gid)
        except OSError:
            pass
        now = os.fstat(handle)
        if (now.st_uid, now.st_gid) != (uid, gid):
            mode &= ~0o6000
        for attribute, value in entry["extra"].get("attributes", ()):
            try:
                if not attribute.startswith(b"user.") and attribute not in ACLS:
                    raise PermissionError("it gives powers")
                os.setxattr(handle, attribute, value)
            except (OSError, ValueError) as error:
                print(f"{shown(name)}: attribute {attribute!r} not restored ({error})", file=sys.stderr)
        try:
            os.fchmod(handle, mode & 0o7777)
            os.utime(handle, ns=(modified, modified))
        except OSError as error:
            print(f"{shown(name)}: permissions or times not restored ({error})", file=sys.stderr)

    def finish(self):
        for parts, entry in reversed(self.folders):
            try:
                handle = descend(self.root, parts)
            except OSError:
                continue
            self.metadata(handle, entry, parts[-1] if parts else b"/")
            os.close(handle)


def folded(text):
    """Text without regard to capitals and accents."""
    text = os.fsdecode(text) if isinstance(text, bytes) else text
    return "".join(c for c in unicodedata.normalize("NFKD", text.casefold()) if not unicodedata.combining(c))


def find(store, snapshots, words):
    """Print paths with all the words in them, newest snapshots first, each path once. How many there are."""
    wanted, seen, found = [folded(word) for word in words], set(), set()
    for _, name, machine, _, _, roots in reversed(snapshots):
        waiting = [(b"", entry, True) for entry in store.page(roots, rooted=True)]
        while waiting:
            above, entry, rooted = waiting.pop()
            path = entry["name"] if rooted else above.rstrip(b"/") + b"/" + entry["name"]
            key = folded(path)
            if path not in found and all(word in key for word in wanted):
                found.add(path)
                print(f"{name}  {shown(str(machine))}  {entry['kind']} {entry['stat'][3]:>14} {os.fsdecode(path)!r}")
            pages = tuple(entry["extents"]) if entry["kind"] == "d" else ()
            if not pages or (path, pages) in seen or path.count(b"/") > DEEPEST:
                continue
            seen.add((path, pages))
            try:
                waiting += [(path, child, False) for child in store.listing(entry)]
            except (Problem, OSError) as problem:
                print(f"{os.fsdecode(path)[-300:]!r}: {problem}", file=sys.stderr)
    return len(found)


def is_there(store, roots, wanted):
    """Whether a snapshot has a path, or something below it."""
    for root in roots:
        parts = [part for part in root["name"].split(b"/") if part]
        if parts[: len(wanted)] == wanted:
            return True
        if wanted[: len(parts)] != parts:
            continue
        entry = root
        for part in wanted[len(parts) :]:
            entry = next((child for child in store.listing(entry) if child["name"] == part), None) if entry["kind"] == "d" else None
            if entry is None:
                break
        else:
            return True
    return False


def extract(store, roots, path, wanted):
    wanted = [[part for part in one.split(b"/") if part] for one in wanted]
    absent = [one for one in wanted if not is_there(store, roots, one)]
    for one in absent:
        print(f"{shown(b'/' + b'/'.join(one))[-300:]}: not in this snapshot; “recover.py find” looks in all of them", file=sys.stderr)
    if absent and len(absent) == len(wanted):
        return len(absent)
    wanted = [one for one in wanted if one not in absent]
    target, failed = Target(path), len(absent)
    for parts, entry, problem in walk(store, roots):
        if wanted and not any(parts[: len(one)] == one for one in wanted):
            continue
        try:
            if problem is not None:
                raise problem
            target.place(store, parts, entry)
        except (Problem, OSError) as wrong:
            failed += 1
            print(f"{shown(b'/' + b'/'.join(parts))[-300:]}: {wrong}", file=sys.stderr)
    target.finish()
    return failed


def choose(snapshots, wanted):
    hits = snapshots[-1:] if wanted == "latest" else [item for item in snapshots if item[1].startswith(wanted.lower())]
    if len(hits) != 1:
        raise Problem(f"{wanted!r} is the start of {len(hits)} snapshots; see the list")
    return hits[0]


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--store", default=os.path.dirname(os.path.abspath(__file__)))
    parser.add_argument("--passphrase-file")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list").add_argument("snapshot", nargs="?")
    commands.add_parser("find").add_argument("words", nargs="+")
    out = commands.add_parser("extract")
    out.add_argument("snapshot")
    out.add_argument("target")
    out.add_argument("path", nargs="*")
    given = parser.parse_args()

    if MISSING:
        print(f"recover.py: it needs the Python package {' and '.join(MISSING)}. {INSTALL}", file=sys.stderr)
        return 3

    def ask(hint):
        if given.passphrase_file:
            try:
                with open(given.passphrase_file, encoding="utf-8-sig") as file:
                    return file.read().rstrip("\r\n")
            except UnicodeDecodeError:
                raise Problem(f"{given.passphrase_file} is no text file in UTF-8") from None
        try:
            return getpass.getpass(f"Passphrase or recovery key (hint: {hint or 'none'}): ")
        except EOFError:
            raise Problem("nobody types a passphrase here; give --passphrase-file FILE") from None

    most = resource.getrlimit(resource.RLIMIT_NOFILE)[1]  # a deep folder holds each level above it open
    resource.setrlimit(resource.RLIMIT_NOFILE, (16384 if most == resource.RLIM_INFINITY else min(16384, most), most))
    try:
        store = Store(given.store, ask)
        snapshots = store.snapshots()
        if given.command == "find":
            return 0 if find(store, snapshots, given.words) else 1
        if given.command == "extract":
            roots = store.page(choose(snapshots, given.snapshot)[5], rooted=True)
            return 1 if extract(store, roots, given.target, [os.fsencode(path) for path in given.path]) else 0
        if given.snapshot:
            for parts, entry, problem in walk(store, store.page(choose(snapshots, given.snapshot)[5], rooted=True)):
                path = os.fsdecode(b"/" + b"/".join(parts))
                print(f"{path[-300:]!r}: {problem}" if entry is None else f"{entry['kind']} {entry['stat'][3]:>14} {path!r}")
        else:
            for time, name, machine, files, label, _ in snapshots:
                when = datetime.fromtimestamp(time / 1e9).isoformat(sep=" ", timespec="seconds")
                print(f"{name}  {when}  {shown(str(machine))}  {files} files  {shown(str(label))}")
        sys.stdout.flush()
        return 0
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)  # whoever read the list has seen enough
        return 0
    except KeyboardInterrupt:
        print("recover.py: stopped; what was extracted is there", file=sys.stderr)
        return 130
    except (Problem, OSError) as problem:
        print(f"recover.py: {problem}", file=sys.stderr)
        return 3
    except (KeyError, TypeError, ValueError, AttributeError, IndexError, OverflowError, RecursionError) as problem:
        print(f"recover.py: damaged: a stored record is not what it should be ({problem!r})", file=sys.stderr)
        return 3


if __name__ == "__main__":
    sys.exit(main())
