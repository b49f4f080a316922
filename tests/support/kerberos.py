"""A realm of Kerberos on loopback, with one person in it who has a ticket."""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import subprocess
import time
import unittest
from importlib.util import find_spec
from pathlib import Path
from unittest import mock

from tests.support.servers import free_port, user_name

_REALM, _PASSWORD, _SECONDS = "TIDE.TEST", "lantern-harbour", 10.0
_PROGRAMS = ("kdb5_util", "kadmin.local", "krb5kdc", "kinit")
_CLIENT = """[libdefaults]
 default_realm = {realm}
 dns_lookup_kdc = false
 dns_canonicalize_hostname = false
 rdns = false
[realms]
 {realm} = {{
  kdc = 127.0.0.1:{port}
 }}
[domain_realm]
 localhost = {realm}
"""
_SERVER = """[kdcdefaults]
 kdc_ports = {port}
 kdc_tcp_ports = {port}
[realms]
 {realm} = {{
  database_name = {folder}/principal
  key_stash_file = {folder}/stash
 }}
"""


class Realm:
    """MIT's server of tickets (kdc.conf(5)); the test is skipped by name where something is missing.

    :param folder: what it keeps.
    """

    settings = f"realm = {_REALM}\n  kerberos method = dedicated keytab\n  dedicated keytab file = {{keys}}"
    """Lines for Samba."""

    def __init__(self, test: unittest.TestCase, folder: Path) -> None:
        if not all(map(find_spec, ("gssapi", "krb5"))):
            raise unittest.SkipTest("gssapi and krb5 are missing: the extra kerberos")
        path = f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin"
        if not all(shutil.which(program, path=path) for program in _PROGRAMS):
            raise unittest.SkipTest("krb5kdc is missing: apt-get install krb5-kdc krb5-user")
        folder.mkdir()
        self.keys = folder / "keys"
        port = free_port()
        (folder / "client").write_text(_CLIENT.format(realm=_REALM, port=port))
        (folder / "server").write_text(_SERVER.format(realm=_REALM, port=port, folder=folder))
        patch = mock.patch.dict(
            os.environ,
            PATH=path,
            KRB5_CONFIG=str(folder / "client"),
            KRB5_KDC_PROFILE=str(folder / "server"),
            KRB5_KTNAME=str(self.keys),
            KRB5CCNAME=str(folder / "tickets"),
        )
        patch.start()
        test.addCleanup(patch.stop)
        _run("kdb5_util", "create", "-s", "-P", _PASSWORD)
        _run("kadmin.local", "-q", f"addprinc -pw {_PASSWORD} {user_name()}")
        for service in ("host/localhost", "cifs/localhost"):
            # Without what only a domain tells of a person, which a server of its own does not take.
            _run("kadmin.local", "-q", f"addprinc +no_auth_data_required -randkey {service}")
            _run("kadmin.local", "-q", f"ktadd -k {self.keys} {service}")
        serving = subprocess.Popen(["krb5kdc", "-n"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        test.addCleanup(serving.wait)
        test.addCleanup(serving.kill)
        deadline = time.monotonic() + _SECONDS
        while time.monotonic() < deadline:
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
                break
            time.sleep(0.05)

    def give_ticket(self) -> None:
        """Log the person in."""
        _run("kinit", user_name(), said=f"{_PASSWORD}\n")


def _run(*words: str, said: str = "") -> None:
    done = subprocess.run(words, input=said.encode(), capture_output=True, check=False)
    if done.returncode:
        raise AssertionError(f"{words}: {done.stderr.decode(errors='replace')}")
