"""Fetch a file: broken downloads are gone on with, and no byte is believed before its digest is right."""

from __future__ import annotations

import hashlib
import re
import stat
import time
from collections.abc import Mapping
from pathlib import Path
from typing import BinaryIO, Protocol

from lapidar.core import atomic
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.store import Cache
from lapidar.core.errors import IndexTrouble
from lapidar.core.net.addresses import local_path, without_credentials
from lapidar.core.net.http import Client

__all__ = ["Fetched", "Wanted"]

_PIECE_BYTES = 1 << 18
MOST_BYTES = 16_000_000_000  # of one file
MOST_SECONDS = 600  # for one file, and more for a large one:
_SLOWEST_BYTES_A_SECOND = 20_000
_TRIES_WITHOUT_PROGRESS = 4
_PAUSE_SECONDS = 0.2


class Wanted(Protocol):
    """A file at an address.

    Attributes:
        sha256: hex; "" where it is not promised.
        bytes: its size; None where it is not told.
    """

    @property
    def name(self) -> str: ...
    @property
    def url(self) -> str: ...
    @property
    def sha256(self) -> str: ...
    @property
    def bytes(self) -> int | None: ...


class Fetched:
    """A context: the path of a file, verified, for as long as the context lasts.

    Args:
        cache: whose staging folder it lies in meanwhile.

    Attributes:
        sha256, size: of what was fetched, once it was.

    Raises:
        IndexTrouble: it cannot be had, or is not what the index promised; what came is thrown away.
    """

    def __init__(self, client: Client, file: Wanted, cache: Cache) -> None:
        self._client = client
        self._file = file
        self._cache = cache
        self._work: atomic.WorkFolder | None = None
        self._digest = hashlib.sha256()
        self.sha256 = ""
        self.size = 0
        self._began = self._deadline = 0.0

    def __enter__(self) -> Path:
        # The time begins with the work: one that waited in a queue for others has all of it.
        self._began = time.monotonic()
        self._deadline = self._began + MOST_SECONDS + (self._file.bytes or 0) / _SLOWEST_BYTES_A_SECOND
        path = local_path(self._file.url)
        if path is None:
            self._work = self._cache.work_folder()
            path = self._work.path / "download"
            try:
                self._download(path)
            except BaseException:
                self.__exit__(None, None, None)
                raise
        else:
            try:
                status = path.stat()
                if not stat.S_ISREG(status.st_mode):
                    raise IndexTrouble(f"{path} is no regular file", remedy="Name another.")
                self.size = status.st_size
                self.sha256 = sha256_of(str(path))
            except OSError as error:
                raise IndexTrouble(f"{path} cannot be read", why=error.strerror or str(error)) from error
        if self._file.sha256 and self.sha256 != self._file.sha256:
            self.__exit__(None, None, None)
            raise IndexTrouble(
                f"{self._file.name} is not what its index promises, and was thrown away",
                why=f"promised sha256 {self._file.sha256}, got {self.sha256}",
                remedy="Try again; if it stays so, the file was changed on its way or on the host: do not use it.",
            )
        return path

    def __exit__(self, *_: object) -> None:
        if self._work is not None:
            self._work.__exit__(None, None, None)
            self._work = None

    def _download(self, path: Path) -> None:
        from urllib3.exceptions import HTTPError

        tries = _TRIES_WITHOUT_PROGRESS
        with open(path, "wb") as target:
            while True:
                before = self.size
                why = "the connection was cut"
                try:
                    if self._more(target):
                        break
                except HTTPError as error:
                    why = str(error)
                tries = _TRIES_WITHOUT_PROGRESS if self.size > before else tries - 1
                if not tries:
                    raise IndexTrouble(
                        f"{self._file.name} could not be fetched whole",
                        why=f"{without_credentials(self._file.url)} breaks off after {self.size:,} bytes: {why}",
                        remedy="Try again later. Nothing was changed.",
                    )
                time.sleep(_PAUSE_SECONDS)
        self.sha256 = self._digest.hexdigest()

    def _more(self, target: BinaryIO) -> bool:
        """Ask for what is still lacking; whether it is whole now."""
        headers = {"Accept-Encoding": "identity"}
        if self.size:
            headers["Range"] = f"bytes={self.size}-"
        with self._client.stream(self._file.url, headers) as response:
            if response.status in (404, 410):
                raise IndexTrouble(
                    f"{self._file.name} is not there any more",
                    why=without_credentials(self._file.url),
                    remedy="`lapidar pin --renew` chooses anew among what there is.",
                )
            if self.size and response.status != 206:  # a host that knows no ranges begins again
                target.seek(0)
                target.truncate()
                self._digest, self.size = hashlib.sha256(), 0
            whole = self._whole_size(response.headers)
            for piece in response.stream(_PIECE_BYTES, decode_content=False):
                self.size += len(piece)
                self._refuse_more_than(whole)
                target.write(piece)
                self._digest.update(piece)
        return whole is None or self.size >= whole

    def _refuse_more_than(self, told: int | None) -> None:
        """Raises: IndexTrouble: it is larger, or takes longer, than it can."""
        most = min(size for size in (told, self._file.bytes, MOST_BYTES) if size is not None)
        if self.size > most:
            raise IndexTrouble(
                f"{self._file.name} is larger than was promised, and was thrown away",
                why=f"{most:,} bytes were promised, or are the most that is fetched, and more came",
                remedy="Try again; if it stays so, do not use it.",
            )
        if time.monotonic() > self._deadline:
            raise IndexTrouble(
                f"{self._file.name} comes too slowly, and was given up",
                why=f"{self.size:,} bytes came in {time.monotonic() - self._began:.0f} s",
                remedy="Try again later, or fetch it by other means into a folder, and name that as an index.",
            )

    def _whole_size(self, headers: Mapping[str, str]) -> int | None:
        told = re.search(r"/(\d+)$", headers.get("Content-Range", ""))
        if told:
            return int(told[1])
        length = headers.get("Content-Length")
        return self.size + int(length) if length else self._file.bytes
