"""What the stand-in servers have in common: ``python -m good_tide.servers.stand_ins.KIND FOLDER PORT``.
The first line of output says where one is and how to log in (``StandInFacts`` as JSON); it ends with its
input."""

from __future__ import annotations

import argparse
import datetime
import ipaddress
import secrets
import sys
from pathlib import Path
from typing import NamedTuple

import msgspec
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from good_tide.servers.web.certificates import fingerprint_of

USER = "guest"
HOST = "127.0.0.1"
_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"


class StandInFacts(msgspec.Struct, frozen=True):
    """Where a stand-in server is, and how to log in.

    :param fingerprint: of the key or certificate that it shows; empty: it shows none.
    """

    address: str
    password: str
    fingerprint: str


class Asked(NamedTuple):
    """What a stand-in is begun with."""

    folder: Path
    port: int
    password: str
    keeps: Path | None
    code: bool
    digest: bool
    lag: float
    most: int
    room: int


def asked() -> Asked:
    """What the command line says."""
    words = argparse.ArgumentParser()
    words.add_argument("folder", type=Path)
    words.add_argument("port", type=int)
    words.add_argument("--password", default=new_password())
    words.add_argument("--certificate", type=Path, help="where its certificate is kept, to show it again")
    words.add_argument("--code", action="store_true", help="ask for a code besides, that nobody has")
    words.add_argument("--digest", action="store_true", help="let in by what shows that it is known only")
    words.add_argument("--lag", type=float, default=0.0, help="seconds by which its listings are late")
    words.add_argument("--most", type=int, default=0, help="bytes of a request that it takes at most")
    words.add_argument("--room", type=int, default=0, help="bytes that it takes in all")
    found = words.parse_args()
    folder = found.folder.resolve()
    folder.mkdir(parents=True, exist_ok=True)
    return Asked(
        folder,
        found.port,
        found.password,
        found.certificate,
        found.code,
        found.digest,
        found.lag,
        found.most,
        found.room,
    )


def new_password() -> str:
    """A password to throw away."""
    return "".join(secrets.choice(_LETTERS) for _ in range(12))


def tell(facts: StandInFacts) -> None:
    """Say where it is."""
    print(msgspec.json.encode(facts).decode(), flush=True)


def until_input_ends() -> None:
    """Wait until nobody wants the server any more."""
    sys.stdin.read()


def certificate(folder: Path) -> tuple[Path, str]:
    """A file with a certificate that only this machine has, and its key; made where there is none. And the
    fingerprint of it."""
    file = folder / "certificate.pem"
    if not file.exists():
        folder.mkdir(parents=True, exist_ok=True)
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, HOST)])
        now = datetime.datetime.now(datetime.UTC)
        made = (
            x509.CertificateBuilder()
            .subject_name(name)
            .issuer_name(name)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - datetime.timedelta(days=1))
            .not_valid_after(now + datetime.timedelta(days=365))
            .add_extension(
                x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address(HOST))]), critical=False
            )
            .sign(key, hashes.SHA256())
        )
        file.touch(0o600)
        file.write_bytes(
            key.private_bytes(
                serialization.Encoding.PEM,
                serialization.PrivateFormat.PKCS8,
                serialization.NoEncryption(),
            )
            + made.public_bytes(serialization.Encoding.PEM)
        )
    shown = x509.load_pem_x509_certificate(file.read_bytes())
    return file, fingerprint_of(shown.public_bytes(serialization.Encoding.DER))
