"""The kinds of servers: the one list that a new kind is added to. Each is loaded only where it is used."""

from __future__ import annotations

from good_tide.core.addresses import Address
from good_tide.core.errors import PlaceError
from good_tide.lines.wire import Begin, Trouble
from good_tide.servers.server import Progress, Server, ServerError
from good_tide.system.jobs import settings_folder
from good_tide.system.keyrings import DesktopKeyRing
from good_tide.system.logins import login_in_files

HOSTS_FILE = "known_hosts"


def server_for(place: Address, begin: Begin, progress: Progress) -> Server:
    """The server of an address.

    Raises:
        ServerError: what is kept for its login cannot be used.
    """
    from good_tide.servers.host_keys import HostKeys  # these load the libraries of this kind
    from good_tide.servers.logins import Answers
    from good_tide.servers.sftp import SftpServer

    settings = settings_folder()
    try:
        kept = login_in_files(settings, place.server)
    except PlaceError as error:
        raise ServerError(Trouble.LOGIN, error.what) from error
    answers = Answers(place.server, begin, kept, DesktopKeyRing())
    return SftpServer(place, answers, HostKeys(settings / HOSTS_FILE, begin.trust), progress)
