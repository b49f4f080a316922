"""Folders on shares of SMB servers: ``smb://user@host/share/path``, versions 2 and 3 of the protocol."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Awaitable, Callable, Sequence
from typing import Any

from smbprotocol.exceptions import SMBException, SMBResponseException
from smbprotocol.file_info import (
    FileAttributes,
    FileFsFullSizeInformation,
    FileInformationClass,
    FileRenameInformation,
    FileSystemInformationClass,
    InfoType,
)
from smbprotocol.open import (
    CreateDisposition,
    CreateOptions,
    DirectoryAccessMask,
    FilePipePrinterAccessMask,
    ImpersonationLevel,
    Open,
    QueryDirectoryFlags,
    ShareAccess,
    SMB2QueryInfoRequest,
    SMB2QueryInfoResponse,
    SMB2SetInfoRequest,
)

from good_tide.core.addresses import Address
from good_tide.lines.wire import TOO_LARGE, Promises, Room, Trouble
from good_tide.servers.folders import CLAIM_SECONDS, Entry, FolderServer, a_moment, claim_of, in_blocks
from good_tide.servers.logins import Answers
from good_tide.servers.measuring import measured, trial_name
from good_tide.servers.open_files import OpenFiles
from good_tide.servers.server import LineBrokenError, Progress, ServerError
from good_tide.servers.smb.connection import BEYOND_END, BUSY, NO_MORE, Ask, SmbLine

_BLOCK = 512 * 1024
_UNDER_WAY = 6
"""Blocks of a file under way at once: 3 MB, which fills a line of 100 Mbit/s over a quarter of a second."""
_FIRST = 64 * 1024
"""Bytes that are read with the same message that opens a file."""
_LISTED = 64 * 1024
"""Bytes of a listing that come at once."""
_HELD = "packs/"
"""Files that are kept open to read from."""
_BUSY_PAUSES = (0.05, 0.2, 0.5, 1.0, 2.0)
_OPEN_ELSEWHERE = frozenset({0xC0000022})
"""What a server answers when a file is to be replaced that somebody reads: access denied."""

_ALL_SHARED = ShareAccess.FILE_SHARE_READ | ShareAccess.FILE_SHARE_WRITE | ShareAccess.FILE_SHARE_DELETE
_READING = FilePipePrinterAccessMask.GENERIC_READ
_WRITING = FilePipePrinterAccessMask.GENERIC_WRITE | FilePipePrinterAccessMask.DELETE
_LISTING = DirectoryAccessMask.FILE_LIST_DIRECTORY | DirectoryAccessMask.FILE_READ_ATTRIBUTES
_NO_LINK = CreateOptions.FILE_OPEN_REPARSE_POINT
_NO_BYTES = FilePipePrinterAccessMask.FILE_READ_ATTRIBUTES


class SmbServer(FolderServer):
    """A folder on a share.

    :param tell: counts what goes over the line.
    """

    def __init__(self, address: Address, login: Answers, tell: Progress) -> None:
        self._line, self._tell = SmbLine(address, login, tell), tell
        _, _, inside = address.path.strip("/").partition("/")
        self._root = inside.replace("/", "\\")
        self._held: OpenFiles[Open] = OpenFiles(self._open_to_read, self._closed)

    def _path(self, name: str) -> str:
        inside = name.replace("/", "\\")
        return f"{self._root}\\{inside}" if self._root and inside else self._root or inside

    async def _opened(
        self, name: str, access: int, disposition: int, options: int, shared: int = _ALL_SHARED
    ) -> tuple[Open, Ask[Any]]:
        """Something in the store, and what opens it."""
        file = await self._line.open(self._path(name))
        return file, file.create(
            ImpersonationLevel.Impersonation,
            access,
            FileAttributes.FILE_ATTRIBUTE_NORMAL,
            shared,
            disposition,
            options,
            send=False,
        )

    async def _touch(self, name: str, access: int, disposition: int, options: int) -> Open:
        """Open something and close it, in one message."""
        file, opening = await self._opened(name, access, disposition, options)
        await self._line.ask(opening, file.close(send=False))
        return file

    async def there(self) -> None:
        try:
            await self._touch("", _LISTING, CreateDisposition.FILE_OPEN, CreateOptions.FILE_DIRECTORY_FILE)
        except ServerError as error:
            raise ServerError(Trouble.NO_FOLDER) if error.trouble is Trouble.MISSING else error from None

    async def make(self) -> None:
        whole, parts = self._root, self._root.split("\\")
        try:
            for count in range(1, len(parts) + 1):
                self._root = "\\".join(parts[:count])
                await self.make_folder("")
        finally:
            self._root = whole

    async def make_folder(self, folder: str) -> None:
        await self._touch(folder, _LISTING, CreateDisposition.FILE_OPEN_IF, CreateOptions.FILE_DIRECTORY_FILE)

    async def entries(self, folder: str) -> list[Entry]:
        opened, opening = await self._opened(
            folder, _LISTING, CreateDisposition.FILE_OPEN, CreateOptions.FILE_DIRECTORY_FILE
        )
        kind = FileInformationClass.FILE_DIRECTORY_INFORMATION

        def more(first: bool = False) -> Ask[Any]:
            flags = QueryDirectoryFlags.SMB2_RESTART_SCANS if first else 0
            ask: Ask[Any] = opened.query_directory("*", kind, flags, max_output=_LISTED, send=False)
            return ask

        found: list[Entry] = []
        _, part = await self._line.ask(opening, more(first=True))
        try:
            while part:
                found += map(_entry, part)
                part = await self._listed(more())
        finally:
            _later(self._line.ask(opened.close(send=False)))
        return [one for one in found if one.name not in (".", "..")]

    async def _listed(self, asked: Ask[Any]) -> Sequence[Any]:
        """The next part of a listing, nothing at its end."""
        message, answer = asked

        def part(request: Any) -> Any:
            try:
                return answer(request)
            except SMBResponseException as error:
                if error.status != NO_MORE:
                    raise
                return []

        [found] = await self._line.ask((message, part))
        return found  # type: ignore[no-any-return]

    async def size(self, name: str) -> int:
        return _length(await self._touch(name, _NO_BYTES, CreateDisposition.FILE_OPEN, _NO_LINK))

    async def read(self, name: str, offset: int, length: int | None, limit: int) -> bytes:
        if name.startswith(_HELD) and length is not None:
            file = await self._held.get(name)
            return await self._read_fully(file, offset, min(length, max(0, _length(file) - offset)))
        if length == 0:
            await self.size(name)
            return b""
        file, opening = await self._opened(name, _READING, CreateDisposition.FILE_OPEN, _NO_LINK)
        first_length = min(_FIRST, limit if length is None else length)
        reading, answer = file.read(offset, first_length, send=False)
        asked = (reading, lambda request: _bytes(answer, request))
        _, first = await self._line.ask(opening, asked)
        try:
            rest = max(0, _length(file) - offset)
            length = rest if length is None else min(length, rest)
            if length > limit:
                raise ServerError(Trouble.OTHER, TOO_LARGE)
            self._tell.moved(received=len(first))
            left = length - len(first)
            return (
                first + await self._read_fully(file, offset + len(first), left) if left > 0 else bytes(first)
            )
        finally:
            _later(self._line.ask(file.close(send=False)))

    async def _open_to_read(self, name: str) -> Open:
        file, opening = await self._opened(name, _READING, CreateDisposition.FILE_OPEN, _NO_LINK)
        await self._line.ask(opening)
        _length(file)
        return file

    async def _closed(self, file: Open) -> None:
        await self._line.ask(file.close(send=False))

    async def _read_fully(self, file: Open, offset: int, length: int) -> bytes:
        block = self._line.most(_BLOCK)
        return await in_blocks(
            lambda at, count: self._block(file, at, count), offset, length, block, _UNDER_WAY
        )

    async def _block(self, file: Open, offset: int, length: int) -> bytes:
        await self._tell.pace(received=length)
        reading, answer = file.read(offset, length, send=False)
        [part] = await self._line.ask((reading, lambda request: _bytes(answer, request)))
        self._tell.moved(received=len(part))
        return part  # type: ignore[no-any-return]

    async def write(self, temporary: str, data: bytes | bytearray) -> None:
        file, opening = await self._opened(
            temporary, _WRITING, CreateDisposition.FILE_CREATE, CreateOptions.FILE_NON_DIRECTORY_FILE
        )
        if len(data) <= _FIRST:
            parts = [file.write(bytes(data), 0, send=False)] if data else []
            await self._tell.pace(sent=len(data))
            try:
                await self._line.ask(opening, *parts, file.flush(send=False), file.close(send=False))
            except ServerError as error:
                if error.trouble not in (Trouble.TAKEN, Trouble.MISSING):
                    await self._clear(temporary)
                raise
            self._tell.moved(sent=len(data))
            return
        await self._line.ask(opening)
        await self._write_blocks(file, temporary, memoryview(data))
        await self._line.ask(file.close(send=False))

    async def _write_blocks(self, file: Open, temporary: str, data: memoryview) -> None:
        running: list[asyncio.Task[None]] = []
        block = self._line.most(_BLOCK)
        try:
            for at in range(0, len(data), block):
                running.append(asyncio.ensure_future(self._write_block(file, data[at : at + block], at)))
                if len(running) >= _UNDER_WAY:
                    await running.pop(0)
            await asyncio.gather(*running)
            with self._tell.settling():
                await self._line.ask(file.flush(send=False))
        except ServerError:
            await asyncio.gather(*running, return_exceptions=True)
            with contextlib.suppress(ServerError):
                await self._line.ask(file.close(send=False))
            await self._clear(temporary)
            raise

    async def _clear(self, temporary: str) -> None:
        with contextlib.suppress(ServerError):
            await self.remove(temporary)

    async def _write_block(self, file: Open, part: memoryview, at: int) -> None:
        await self._tell.pace(sent=len(part))
        await self._line.ask(file.write(bytes(part), at, send=False))
        self._tell.moved(sent=len(part))

    async def name_it(self, temporary: str, name: str, exclusive: bool) -> None:
        """Servers look whether a name is free and give it then, and another may come between: whoever wants
        a name for itself claims it first by a file that only one can make, and that goes with who made it."""
        try:
            if exclusive:
                async with self._claimed(name):
                    await self._rename(temporary, name, replaces=False)
            else:
                await self._held.let_go(name)  # what is open is not replaced
                await self._patiently(lambda: self._rename(temporary, name, replaces=True), _OPEN_ELSEWHERE)
        except ServerError as error:
            if error.trouble is not Trouble.MISSING:
                await self._clear(temporary)
            raise

    async def _rename(self, source: str, target: str, replaces: bool) -> None:
        file, opening = await self._opened(source, _WRITING, CreateDisposition.FILE_OPEN, _NO_LINK)
        info = FileRenameInformation()
        info["replace_if_exists"] = replaces
        info["file_name"] = self._path(target)
        asked = SMB2SetInfoRequest()
        asked["info_type"] = InfoType.SMB2_0_INFO_FILE
        asked["file_info_class"] = FileInformationClass.FILE_RENAME_INFORMATION
        asked["file_id"] = file.file_id
        asked["buffer"] = info
        await self._line.ask(opening, (asked, file.connection.receive), file.close(send=False))

    @contextlib.asynccontextmanager
    async def _claimed(self, name: str) -> Any:
        file, opening = await self._opened(
            claim_of(name),
            _WRITING,
            CreateDisposition.FILE_CREATE,
            CreateOptions.FILE_NON_DIRECTORY_FILE | CreateOptions.FILE_DELETE_ON_CLOSE,
        )
        deadline = time.monotonic() + CLAIM_SECONDS
        while True:
            try:
                await self._line.ask(opening)
                break
            except ServerError as error:
                if error.trouble is not Trouble.TAKEN and not _busy(error):
                    raise
                if time.monotonic() > deadline:
                    raise LineBrokenError("another holds the name") from None
                await a_moment()
        try:
            yield
        finally:
            await self._line.ask(file.close(send=False))

    async def _patiently(
        self, act: Callable[[], Awaitable[None]], busy: frozenset[int] = frozenset()
    ) -> None:
        """Do something again while another has the file open in a way that forbids it.

        :param busy: statuses that mean so here besides.
        """
        for pause in _BUSY_PAUSES:
            try:
                await act()
                return
            except ServerError as error:
                if not _busy(error, busy):
                    raise
            await asyncio.sleep(pause)
        await act()

    async def remove(self, name: str) -> None:
        await self._held.let_go(name)

        async def act() -> None:
            with _nothing_if_missing():
                await self._touch(
                    name,
                    FilePipePrinterAccessMask.DELETE,
                    CreateDisposition.FILE_OPEN,
                    _NO_LINK | CreateOptions.FILE_DELETE_ON_CLOSE | CreateOptions.FILE_NON_DIRECTORY_FILE,
                )

        await self._patiently(act)

    async def room(self) -> Room:
        opened, opening = await self._opened(
            "", _LISTING, CreateDisposition.FILE_OPEN, CreateOptions.FILE_DIRECTORY_FILE
        )
        asked = SMB2QueryInfoRequest()
        asked["info_type"] = InfoType.SMB2_0_INFO_FILESYSTEM
        asked["file_info_class"] = FileSystemInformationClass.FILE_FS_FULL_SIZE_INFORMATION
        asked["output_buffer_length"] = 64
        asked["file_id"] = opened.file_id

        def answer(request: Any) -> Any:
            found = SMB2QueryInfoResponse()
            found.unpack(opened.connection.receive(request)["data"].get_value())
            return found.parse_buffer(FileFsFullSizeInformation)

        _, sizes, _ = await self._line.ask(opening, (asked, answer), opened.close(send=False))
        unit = sizes["sectors_per_unit"].get_value() * sizes["bytes_per_sector"].get_value()
        return Room(
            sizes["caller_available_units"].get_value() * unit,
            sizes["total_allocation_units"].get_value() * unit,
        )

    async def promises(self, size: int) -> Promises:
        first, second = trial_name(), trial_name()
        once = False
        try:
            speeds = await measured(
                self.there,
                lambda data: self.write(first, data),
                lambda: self.read(first, 0, size, size),
                size,
            )
            try:
                await self.write(first, b"another")
            except ServerError as error:
                once = error.trouble is Trouble.TAKEN
            await self.write(second, b"before")
            await self._rename(second, first, replaces=True)
        finally:
            for name in (first, second):
                await self._clear(name)
        return Promises(True, once, True, *speeds)

    async def close(self) -> None:
        self._held.forget()
        self._line.close()


def _bytes(answer: Any, request: Any) -> bytes:
    """Bytes that were read, none beyond the end."""
    try:
        return bytes(answer(request))
    except SMBResponseException as error:
        if error.status != BEYOND_END:
            raise
        return b""


def _length(file: Open) -> int:
    """Length of what has been opened, which must be a file."""
    other = FileAttributes.FILE_ATTRIBUTE_DIRECTORY | FileAttributes.FILE_ATTRIBUTE_REPARSE_POINT
    if file.file_attributes & other:
        raise ServerError(Trouble.MISSING)
    return int(file.end_of_file)


def _entry(info: Any) -> Entry:
    name = info["file_name"].get_value().decode("utf-16-le")
    attributes = info["file_attributes"].get_value()
    if attributes & FileAttributes.FILE_ATTRIBUTE_REPARSE_POINT:
        return Entry(name, "other", 0)
    if attributes & FileAttributes.FILE_ATTRIBUTE_DIRECTORY:
        return Entry(name, "folder", 0)
    return Entry(name, "file", info["end_of_file"].get_value())


def _busy(error: ServerError, also: frozenset[int] = frozenset()) -> bool:
    cause = error.__cause__
    return isinstance(cause, SMBResponseException) and (cause.status in BUSY or cause.status in also)


class _nothing_if_missing(contextlib.AbstractContextManager[None]):  # noqa: N801
    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> bool:
        return isinstance(error, ServerError) and error.trouble is Trouble.MISSING


def _later(closing: Awaitable[object]) -> None:
    """Let something end by itself; that it fails when the line is broken says nothing new."""

    async def end() -> None:
        with contextlib.suppress(ServerError, LineBrokenError, SMBException):
            await closing

    _ending.add(task := asyncio.ensure_future(end()))
    task.add_done_callback(_ending.discard)


_ending: set[asyncio.Future[None]] = set()
