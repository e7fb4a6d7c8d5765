"""METADATA out of a wheel that is not here: only the pieces of it that are needed are asked for."""

from __future__ import annotations

import io
import re
import zipfile
from typing import IO

from lapidar.core import foreign
from lapidar.core.errors import IndexTrouble
from lapidar.core.net.http import Client

__all__ = ["NoRanges", "RemoteFile", "metadata_in", "metadata_member", "remote_metadata"]

# The list of members stands at the end of a wheel, and its metadata mostly just before: one request is enough.
_TAIL_BYTES = 24_000
_MOST_BYTES = 64_000_000  # of all pieces together


class NoRanges(Exception):
    """The host does not give pieces of files."""


class RemoteFile(io.RawIOBase):
    """A file at an address, read in pieces (HTTP Range Requests, RFC 9110 section 14).

    Raises:
        NoRanges: the host sends whole files only.
    """

    def __init__(self, client: Client, url: str) -> None:
        self._client = client
        self._url = url
        self._at = 0
        self._taken = 0
        self._pieces: list[tuple[int, bytes]] = []
        data, self._size = self._ask(f"bytes=-{_TAIL_BYTES}")
        self._pieces.append((self._size - len(data), data))

    def _ask(self, wanted: str) -> tuple[bytes, int]:
        with self._client.stream(self._url, {"Range": wanted, "Accept-Encoding": "identity"}) as response:
            told = re.match(r"bytes (\d+)-(\d+)/(\d+)", response.headers.get("Content-Range", ""))
            if response.status != 206 or not told:
                raise NoRanges
            size = int(told[2]) - int(told[1]) + 1
            self._taken += size
            if size > _MOST_BYTES or self._taken > _MOST_BYTES:
                raise zipfile.BadZipFile(f"its list of members is larger than {_MOST_BYTES:,} bytes")
            data = response.read(size + 1)
            if len(data) != size:
                raise NoRanges
            return data, int(told[3])

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        self._at = offset + (0, self._at, self._size)[whence]
        return self._at

    def tell(self) -> int:
        return self._at

    def read(self, size: int | None = -1) -> bytes:
        end = self._size if size is None or size < 0 else min(self._at + size, self._size)
        if end <= self._at:
            return b""
        for began, data in self._pieces:
            if began <= self._at and end <= began + len(data):
                break
        else:
            data, _ = self._ask(f"bytes={self._at}-{max(end, min(self._at + 4096, self._size)) - 1}")
            began = self._at
            self._pieces.append((began, data))
        found = data[self._at - began : end - began]
        self._at = end
        return found


def metadata_member(archive: zipfile.ZipFile) -> str:
    """Where a wheel has its METADATA.

    Raises:
        zipfile.BadZipFile: it has none.
    """
    for name in archive.namelist():
        if name.count("/") == 1 and name.endswith(".dist-info/METADATA"):
            return name
    raise zipfile.BadZipFile("it has no METADATA")


def metadata_in(stream: IO[bytes]) -> bytes:
    """The METADATA of a wheel.

    Raises:
        zipfile.BadZipFile: it is no wheel.
    """
    with zipfile.ZipFile(stream) as archive:
        member = metadata_member(archive)
        if archive.getinfo(member).file_size > foreign.MOST_METADATA_BYTES:
            raise zipfile.BadZipFile(f"its METADATA is larger than {foreign.MOST_METADATA_BYTES:,} bytes")
        return archive.read(member)


def remote_metadata(client: Client, url: str) -> bytes:
    """The METADATA of a wheel at an address.

    Raises:
        NoRanges: the host sends whole files only.
        IndexTrouble: the host cannot be used.
        zipfile.BadZipFile: it is no wheel.
    """
    file = RemoteFile(client, url)
    try:
        return metadata_in(file)  # type: ignore[arg-type]
    except OSError as error:
        raise IndexTrouble(f"{url} cannot be read", why=str(error)) from error
