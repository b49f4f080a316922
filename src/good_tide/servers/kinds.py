"""The kinds of servers: the one list that a new kind is added to. Each is loaded only where it is used."""

from __future__ import annotations

import os
from pathlib import Path
from urllib.parse import unquote_to_bytes, urlsplit

from good_tide.core.addresses import address
from good_tide.core.errors import PlaceError
from good_tide.lines.wire import Begin, Trouble
from good_tide.servers.server import Progress, Server, ServerError
from good_tide.system.jobs import settings_folder
from good_tide.system.keyrings import DesktopKeyRing
from good_tide.system.logins import login_in_files

_FOLDER = "file"
_HOSTS_FILE = "known_hosts"
_CERTIFICATES_FILE = "known_certificates"


def server_for(begin: Begin, progress: Progress) -> Server:
    """The server of an address, or the folder of a share that is mounted.

    Raises:
        ServerError: what is kept for its login cannot be used.
    """
    parts = urlsplit(begin.address)
    if parts.scheme == _FOLDER:
        from good_tide.servers.mounted import MountedServer

        return MountedServer(Path(os.fsdecode(unquote_to_bytes(parts.path))), progress)
    place = address(begin.address, whole=True)
    settings = settings_folder()
    try:
        kept = login_in_files(settings, place.server)
    except PlaceError as error:
        raise ServerError(Trouble.LOGIN, error.what) from error
    known = (place.server, begin, kept, DesktopKeyRing())
    match place.kind:
        case "smb":
            from good_tide.servers.logins import Answers
            from good_tide.servers.smb.share import SmbServer
            from good_tide.servers.smb.shares import SmbShares

            if place.is_whole:
                return SmbShares(place, Answers(*known), progress)
            return SmbServer(place, Answers(*known), progress)
        case "davs":
            from good_tide.servers.logins import Answers
            from good_tide.servers.web.certificates import Certificates
            from good_tide.servers.web.dav import DavServer

            trusted = Certificates(settings / _CERTIFICATES_FILE, begin.trust)
            return DavServer(place, Answers(*known), trusted, progress)
        case "s3":
            from good_tide.servers.logins import Answers
            from good_tide.servers.web.certificates import Certificates
            from good_tide.servers.web.objects import Buckets, ObjectServer

            trusted = Certificates(settings / _CERTIFICATES_FILE, begin.trust)
            objects = ObjectServer(place, Answers(*known), trusted, progress)
            return Buckets(objects) if place.is_whole else objects
        case _:
            from good_tide.servers.ssh.host_keys import HostKeys
            from good_tide.servers.ssh.logins import SshAnswers
            from good_tide.servers.ssh.sftp import SftpServer

            keys = HostKeys(settings / _HOSTS_FILE, begin.trust)
            return SftpServer(place, SshAnswers(*known), keys, progress)
