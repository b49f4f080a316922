"""Sealing and opening of store files: encrypted, or open and authenticated by keyed hash.

Every store file has a key of its own, derived from the store's secret, the file's kind and the file's name. A
file moved to another name therefore does not open. Sealing begins with a fresh name
(``StoreKeys.fresh_seal``), drawn only when all that will be sealed under it is known, and each number is used
once under it: no key and nonce ever seal two different texts.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Callable
from typing import Protocol

import blake3
from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from good_tide.core.errors import DamageError
from good_tide.core.identifiers import DIGEST_BYTES, NAME_BYTES, ChunkId, ContentDigest
from good_tide.core.translation import tr
from good_tide.crypto.locking import keep_in_memory

TAG_BYTES = 16
SECRET_BYTES = 32
SMALL_PREFIX = b"S"
"""Goes before a small file's content in its digest, so that no list of extents can stand for it."""
_OPENERS_KEPT = 512


class Opener(Protocol):
    """Opens numbered pieces of one store file."""

    def open(self, number: int, sealed: bytes, context: bytes) -> bytes:
        """The plain bytes.

        Raises:
            DamageError: not what was sealed under this number and context.
        """
        ...

    def body(self, number: int, sealed: bytes, context: bytes) -> bytes:
        """The same for who proves in another way that it is right: without secrecy nothing is proved here.

        Raises:
            DamageError: as ``open``, if it is looked at.
        """
        ...


class Seal(Opener, Protocol):
    """Seals and opens numbered pieces of one store file."""

    def seal(self, number: int, plain: bytes, context: bytes) -> bytes:
        """``plain`` sealed, ``TAG_BYTES`` longer."""
        ...


class EncryptingSeal:
    """AES-256-GCM; the nonce is the number as 12 big-endian bytes."""

    def __init__(self, key: bytes) -> None:
        self._cipher = AESGCM(key)

    def seal(self, number: int, plain: bytes, context: bytes) -> bytes:
        return self._cipher.encrypt(number.to_bytes(12, "big"), plain, context)

    def open(self, number: int, sealed: bytes, context: bytes) -> bytes:
        try:
            return self._cipher.decrypt(number.to_bytes(12, "big"), sealed, context)
        except InvalidTag:
            raise DamageError(tr("Stored bytes were changed after they were written")) from None

    body = open


class OpenSeal:
    """No secrecy: the plain bytes, then a 16-byte keyed BLAKE2b over number, context length, context and
    plain bytes."""

    def __init__(self, key: bytes) -> None:
        self._key = key

    def _tag(self, number: int, plain: bytes, context: bytes) -> bytes:
        hasher = hashlib.blake2b(
            number.to_bytes(12, "big") + len(context).to_bytes(4, "big") + context,
            key=self._key,
            digest_size=16,
        )
        hasher.update(plain)
        return hasher.digest()

    def seal(self, number: int, plain: bytes, context: bytes) -> bytes:
        return plain + self._tag(number, plain, context)

    def body(self, number: int, sealed: bytes, context: bytes) -> bytes:
        return sealed[:-TAG_BYTES]

    def open(self, number: int, sealed: bytes, context: bytes) -> bytes:
        plain = sealed[:-TAG_BYTES]
        if len(sealed) < TAG_BYTES or self._tag(number, plain, context) != sealed[-TAG_BYTES:]:
            raise DamageError(tr("Stored bytes were changed after they were written"))
        return plain


class FreshSeal:
    """Seals the pieces of one new store file, under a name that nobody had before. All pieces are known when
    it is made."""

    def __init__(self, name: bytes, seal: Seal) -> None:
        self.name = name
        self._seal = seal
        self._used: set[int] = set()

    def seal(self, number: int, plain: bytes, context: bytes) -> bytes:
        """``plain`` sealed, ``TAG_BYTES`` longer; ``context`` is authenticated.

        Raises:
            ValueError: the number was used already.
        """
        if number in self._used:
            raise ValueError("a number seals once")
        self._used.add(number)
        return self._seal.seal(number, plain, context)


class StoreKeys:
    """All keys of one open store.

    :param secret: 32 bytes that all sealing keys come from. In a store without encryption it is public.
    :param identity: 32 bytes that chunk identities and borders come from; stores that exchange snapshots
        share it.
    """

    def __init__(self, secret: bytes, identity: bytes, encrypted: bool) -> None:
        self.secret = secret
        self.identity = identity
        if encrypted:
            keep_in_memory(secret)
            keep_in_memory(identity)
        self.encrypted = encrypted
        self._openers: dict[tuple[str, bytes], Opener] = {}
        self._make: Callable[[bytes], Seal] = EncryptingSeal if encrypted else OpenSeal
        self._chunk_key = derive(identity, b"chunk identity")
        self.fingerprint = derive(secret, b"fingerprint", identity).hex()[:32]
        """Tells a store from another one, by its secrets, without giving them away."""
        self.digest_key = derive(identity, b"content digest")
        self.border_secret = derive(identity, b"chunk borders")

    def fresh_seal(self, kind: str) -> FreshSeal:
        """The seal of a new store file, with its name; ``kind`` is a word of ``envelope.FileKind``."""
        name = secrets.token_bytes(NAME_BYTES)
        return FreshSeal(name, self._make(derive(self.secret, kind.encode(), name)))

    def named_seal(self, kind: str, name: bytes) -> FreshSeal:
        """The seal of a store file whose content has its name already; only for ``envelope.seal_again``."""
        return FreshSeal(name, self._make(derive(self.secret, kind.encode(), name)))

    def opener(self, kind: str, name: bytes) -> Opener:
        """What opens the pieces of one store file."""
        found = self._openers.get((kind, name))
        if found is None:
            if len(self._openers) >= _OPENERS_KEPT:
                self._openers.clear()
            found = self._openers[kind, name] = self._make(derive(self.secret, kind.encode(), name))
        return found

    def chunk_id(self, plain: bytes | memoryview) -> ChunkId:
        """Identity of a chunk with these plain bytes."""
        return ChunkId(blake3.blake3(plain, key=self._chunk_key).digest())

    def digest(self, content: bytes | memoryview) -> ContentDigest:
        """Content digest of a file that is stored as part of a block, or of the list that stands for a larger
        one."""
        return ContentDigest(blake3.blake3(content, key=self.digest_key).digest(length=DIGEST_BYTES))


def digest_with(key: bytes) -> Callable[[bytes], bytes]:
    """The content digest of a small file, for a process that has the digest key and nothing else of a
    store."""
    begun, length = blake3.blake3(SMALL_PREFIX, key=key), DIGEST_BYTES

    def digest(content: bytes) -> bytes:
        own = begun.copy()  # quicker than to key it each time
        own.update(content)
        return own.digest(length=length)

    return digest


def derive(secret: bytes, purpose: bytes, salt: bytes = b"") -> bytes:
    """A 32-byte key for one purpose (HKDF with SHA-256, RFC 5869)."""
    return HKDF(
        algorithm=SHA256(), length=SECRET_BYTES, salt=salt or None, info=b"good-tide 1 " + purpose
    ).derive(secret)
