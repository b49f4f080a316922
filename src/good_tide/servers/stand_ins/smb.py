"""A stand-in SMB server: Samba's, if it is installed, begun for who runs this."""

from __future__ import annotations

import contextlib
import getpass
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from good_tide.servers.stand_ins.facts import HOST, StandInFacts, asked, tell, until_input_ends

_CONFIG = """
[global]
  smb ports = {port}
  interfaces = 127.0.0.1/8
  bind interfaces only = yes
  server role = standalone
  passdb backend = tdbsam:{own}/passdb.tdb
  private dir = {own}
  state directory = {own}
  cache directory = {own}
  lock directory = {own}
  pid directory = {own}
  ncalrpc dir = {own}/rpc
  log file = {own}/log
  disable netbios = yes
  load printers = no
  disable spoolss = yes
  {more}
[store]
  path = {folder}
  read only = no
"""
_SECONDS = 20.0


def programs() -> tuple[str, str] | None:
    """Samba's server and its tool for passwords, None where they are not installed. Neither needs root."""
    path = f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin"
    found = shutil.which("smbd", path=path), shutil.which("pdbedit", path=path)
    return (found[0], found[1]) if found[0] and found[1] else None


def set_up(own: Path, folder: Path, port: int, password: str, more: str = "") -> list[str]:
    """What begins a server of a folder (smb.conf(5)).

    :param own: where it keeps what is its own.
    :param more: lines of its settings.

    Raises:
        OSError: Samba is not installed, or its tool fails.
    """
    found = programs()
    if found is None:
        raise FileNotFoundError("smbd is missing: apt-get install samba")
    server, tool = found
    settings = own / "smb.conf"
    settings.write_text(_CONFIG.format(port=port, own=own, folder=folder, more=more))
    words = [tool, "-s", str(settings), "-a", "-t", "-u", getpass.getuser()]
    done = subprocess.run(words, input=f"{password}\n{password}\n".encode(), capture_output=True)
    if done.returncode:
        raise OSError(done.stderr.decode(errors="replace").strip())
    return [server, "-F", "--no-process-group", "-s", str(settings), "-l", str(own)]


def end_helpers(own: Path) -> None:
    """End what a server begins for questions such as which shares there are: those programs outlive it, and
    keep the disk on which its files are. They begin others until all are gone."""
    deadline = time.monotonic() + _SECONDS
    while (found := helpers_of(own)) and time.monotonic() < deadline:
        for process in found:
            with contextlib.suppress(OSError):
                os.kill(process, signal.SIGKILL)


def helpers_of(own: Path) -> list[int]:
    """The processes of those programs."""
    found, mine = [], f"--configfile={own / 'smb.conf'}".encode()
    for process in Path("/proc").iterdir():
        with contextlib.suppress(OSError):
            if process.name.isdigit() and mine in (process / "cmdline").read_bytes().split(b"\0"):
                found.append(int(process.name))
    return found


def main() -> None:
    """Serve until the input ends."""
    wanted = asked()
    port = wanted.port or _free_port()
    with tempfile.TemporaryDirectory(prefix="good-tide-smb-") as own:
        try:
            words = set_up(Path(own), wanted.folder, port, wanted.password)
        except OSError as error:
            print(error, file=sys.stderr)
            sys.exit(1)
        with subprocess.Popen(
            words, stdin=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
        ) as server:
            if not _listens(port):
                sys.exit(1)
            address = f"smb://{getpass.getuser()}@{HOST}:{port}/store/store"
            tell(StandInFacts(address, wanted.password, ""))
            signal.signal(signal.SIGINT, signal.SIG_IGN)
            until_input_ends()
            os.killpg(server.pid, signal.SIGTERM)
            end_helpers(Path(own))


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind((HOST, 0))
        return int(probe.getsockname()[1])


def _listens(port: int) -> bool:
    deadline = time.monotonic() + _SECONDS
    pause = 0.05
    while time.monotonic() < deadline:
        with contextlib.suppress(OSError), socket.create_connection((HOST, port), 1):
            return True
        signal.sigtimedwait([signal.SIGCHLD], pause)
    return False


if __name__ == "__main__":
    main()
