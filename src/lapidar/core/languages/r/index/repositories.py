"""Repositories in R's open format (R Administration, 6.6): ``src/contrib`` with a list of its packages in one of three
forms, and an archive of older versions below it; on a host or in a folder. A folder without a list is one of source
packages."""

from __future__ import annotations

import bz2
import hashlib
import lzma
import re
import tarfile
import zlib
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from msgspec import Struct

from lapidar.core import foreign, sealed
from lapidar.core.cache.store import Cache
from lapidar.core.declaring.files import DECLARATION_NAME, user_file
from lapidar.core.errors import IndexTrouble, PackageBroken
from lapidar.core.languages.fields import records
from lapidar.core.languages.r import description, versions
from lapidar.core.languages.r.description import Description
from lapidar.core.net.addresses import local_path, without_credentials
from lapidar.core.net.fetching import Fetched
from lapidar.core.net.http import AT_ONCE, Client, Purpose
from lapidar.core.pinning.market import assigned
from lapidar.core.records.declaration import Index
from lapidar.core.results.kinds import rds

__all__ = ["PURPOSE", "Offer", "Repositories", "description_in"]

PURPOSE = Purpose(
    "package repository",
    "Try again later, or name another address in [index] of lapidar.toml. Nothing was changed.",
    IndexTrouble,
)
_CONTRIB = "src/contrib"
_ARCHIVE = "Archive"
_FILE = re.compile(r"([A-Za-z][A-Za-z0-9.]*)_([0-9]+(?:[.-][0-9]+)*)\.tar\.gz")
_LINK = re.compile(r"""href=["']?([^"'>\s]+\.tar\.gz)["'> ]""", re.IGNORECASE)
_DATE = re.compile(r"(\d{4}-\d{2}-\d{2})")
_MOST_UNPACKED = foreign.MOST_PAGE_BYTES


class Offer(Struct, frozen=True):
    """A version of a package in a repository.

    Attributes:
        url: of its source package.
        index: the address of the repository, without secrets.
        md5: that the repository promises; "" where it does not.
        description: what the list says of it; None where only the package itself does.
        sha256, bytes: of its file, where they are promised: never in this format.
    """

    name: str
    version: str
    url: str
    index: str
    md5: str = ""
    description: Description | None = None
    sha256: str = ""
    bytes: int | None = None

    @property
    def file(self) -> str:
        """The name of its file."""
        return unquote(self.url.rpartition("/")[2])

    @property
    def day(self) -> str:
        """When it was published (ISO 8601), as far as the list tells."""
        return day_of(self.description) if self.description else ""


class _File:
    """An offer as what is fetched."""

    def __init__(self, offer: Offer) -> None:
        self.name, self.url, self.sha256, self.bytes = offer.file, offer.url, offer.sha256, offer.bytes


def day_of(found: Description) -> str:
    """When a package was published, or else put together; "" where it does not say."""
    for name in ("Date/Publication", "Published", "Packaged"):
        if day := _DATE.search(found.fields.get(name, "")):
            return day[1]
    return ""


class Repositories:
    """The repositories that a project may use.

    Args:
        cache: keeps answers and files on their way.
    """

    def __init__(self, indexes: Sequence[Index], cache: Cache) -> None:
        self.indexes = tuple(index for index in indexes if index.language == "r")
        self.cache = cache
        kept = cache.answers if cache.writable else None
        self.client = Client(PURPOSE, kept, [index.address for index in self.indexes])
        self._lists: dict[str, Future[dict[str, list[Offer]]]] = {}
        self._pool = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="repository")

    def __enter__(self) -> Repositories:
        return self

    def __exit__(self, *_: object) -> None:
        self._pool.shutdown(cancel_futures=True)

    def require_any(self) -> None:
        """Raises: IndexTrouble: none is configured."""
        if not self.indexes:
            raise IndexTrouble(
                "No repository of R packages is configured, and lapidar asks no host that you did not name",
                remedy='Write [index] r-packages = { address = "https://packages.example/r", language = "r" } (or the '
                f"path of a folder) into {DECLARATION_NAME} or {user_file()}.",
            )

    def offers(self, name: str) -> list[Offer]:
        """Every version of a name, from the first repository that has any, older ones of the archive among them.

        Raises:
            IndexTrouble: a repository cannot be used.
        """
        self.require_any()
        for index in assigned(self.indexes, name):
            listed = self._list(index).get(name, [])
            archived = list(self._archived(index, name))
            if listed or archived:
                return [*listed, *archived]
        return []

    def names(self) -> list[str]:
        """All names that the lists have."""
        return sorted({name for index in self.indexes for name in self._list(index)})

    # ---- lists

    def _list(self, index: Index) -> dict[str, list[Offer]]:
        if index.address not in self._lists:
            self._lists[index.address] = self._pool.submit(self._read_list, index)
        return self._lists[index.address].result()

    def _read_list(self, index: Index) -> dict[str, list[Offer]]:
        found: dict[str, list[Offer]] = {}
        for offer in self._offers_of(index):
            found.setdefault(offer.name, []).append(offer)
        return found

    def _offers_of(self, index: Index) -> Iterator[Offer]:
        folder = local_path(index.address)
        shown = without_credentials(index.address)
        if folder is not None:
            contrib = _contrib_of(folder)
            texts = _lists_in(contrib)
            if texts is None:
                yield from _unlisted(contrib, shown)
                return
            yield from _listed(texts, contrib.as_uri(), shown)
            return
        base = f"{index.address}/{_CONTRIB}"
        for name in ("PACKAGES.gz", "PACKAGES", "PACKAGES.rds"):
            answer = self.client.get(f"{base}/{name}")
            if answer.status == 200:
                yield from _listed(_decoded(name, answer.body, shown), base, shown)
                return
        raise IndexTrouble(
            f"{shown} is no repository of R packages",
            why=f"it has no {_CONTRIB}/PACKAGES, in none of its forms",
            remedy="Look at its address in [index]: the folder above src is meant.",
        )

    def _archived(self, index: Index, name: str) -> Iterator[Offer]:
        """The older versions, which no list has: the archive's folder is read."""
        folder = local_path(index.address)
        shown = without_credentials(index.address)
        if folder is not None:
            place = _contrib_of(folder) / _ARCHIVE / name
            files = sorted(path.name for path in place.iterdir() if path.is_file()) if place.is_dir() else []
            base = place.as_uri()
        else:
            base = f"{index.address}/{_CONTRIB}/{_ARCHIVE}/{name}"
            answer = self.client.get(f"{base}/")
            text = answer.body.decode("utf-8", "replace") if answer.status == 200 else ""
            files = [unquote(link).rpartition("/")[2] for link in _LINK.findall(text)]
        for file in dict.fromkeys(files):
            told = _FILE.fullmatch(file)
            if told and told[1] == name:
                yield Offer(name, told[2], f"{base}/{file}", shown)

    # ---- single versions

    def description_of(self, offer: Offer) -> Description:
        """What a version says of itself: as the list has it, else out of the package.

        Raises:
            IndexTrouble: it cannot be had.
            PackageBroken: it says nothing, or that it is another.
        """
        if offer.description is not None:
            return offer.description
        kept = self.cache.answers / f"r-needs-{hashlib.sha256(offer.url.encode()).hexdigest()[:32]}"
        is_remote = local_path(offer.url) is None
        data = sealed.read(kept) if is_remote else None
        if not data:
            with self.fetched(offer) as path:
                data = description_in(path, offer.file)
            if is_remote and self.cache.writable:
                found = data
                sealed.keep(kept, lambda: found)
        return _required(data, offer)

    def fetched(self, offer: Offer) -> Fetched:
        """The source package itself, on this machine while it is used."""
        return Fetched(self.client, _File(offer), self.cache)


def _required(data: bytes, offer: Offer) -> Description:
    try:
        found = description.parse(data)
    except ValueError as error:
        raise PackageBroken(f"The DESCRIPTION of {offer.file} cannot be read", why=str(error)) from error
    if found.name != offer.name or versions.standing(found.version, offer.version) != 0:
        raise PackageBroken(f"{offer.file} says that it is {found.name} {found.version}")
    return found


def description_in(path: Path, file: str) -> bytes:
    """The DESCRIPTION in a source package.

    Raises:
        PackageBroken: it has none, or is no archive.
    """
    try:
        with tarfile.open(path) as archive:
            for member in archive:
                parts = member.name.removeprefix("./").split("/")
                if len(parts) == 2 and parts[1] == description.FILE_NAME and member.isfile():
                    stream = archive.extractfile(member)
                    data = stream.read(foreign.MOST_METADATA_BYTES + 1) if stream else b""
                    if len(data) > foreign.MOST_METADATA_BYTES:
                        raise PackageBroken(f"The DESCRIPTION of {file} is larger than any is")
                    return data
    except (tarfile.TarError, EOFError, OSError, zlib.error) as error:
        raise PackageBroken(f"{file} is no source package", why=str(error), remedy="Do not use it.") from error
    raise PackageBroken(f"{file} is no source package: it has no DESCRIPTION", remedy="Do not use it.")


# ---- the three forms of a list


def _contrib_of(folder: Path) -> Path:
    """The folder of source packages in a repository, or in a folder that is one of them itself."""
    if not folder.is_dir():
        raise IndexTrouble(f"There is no folder {folder}", remedy="Look at its path in [index].")
    return folder / _CONTRIB if (folder / _CONTRIB).is_dir() else folder


def _lists_in(contrib: Path) -> list[dict[str, str]] | None:
    """The records of a folder's list; None where it has none."""
    for name in ("PACKAGES", "PACKAGES.gz", "PACKAGES.rds"):
        path = contrib / name
        if path.is_file():
            return _decoded(name, foreign.read(path, foreign.MOST_PAGE_BYTES), str(contrib))
    return None


def _decoded(name: str, data: bytes, shown: str) -> list[dict[str, str]]:
    """The records of a list in one of its forms.

    Raises:
        IndexTrouble: it cannot be read, or is larger than any.
    """
    try:
        text = _unpacked(data)
        if name.endswith(".rds"):
            return list(_of_matrix(rds.read(text)))
        return list(records(text.decode("utf-8", "replace")))
    except (OSError, ValueError, EOFError, zlib.error, lzma.LZMAError) as error:
        raise IndexTrouble(
            f"The list {name} of {shown} cannot be read", why=str(error), remedy=PURPOSE.remedy
        ) from error


def _unpacked(data: bytes) -> bytes:
    """Bytes as they are, or unpacked where they are packed in one of the three ways of R.

    Raises:
        ValueError: they are more than any list has, or break off.
    """
    packed: Any
    if data.startswith(b"\x1f\x8b"):
        packed = zlib.decompressobj(16 + zlib.MAX_WBITS)
    elif data.startswith(b"\xfd7zXZ"):
        packed = lzma.LZMADecompressor()
    elif data.startswith(b"BZh"):
        packed = bz2.BZ2Decompressor()
    else:
        return data
    found: bytes = packed.decompress(data, _MOST_UNPACKED)
    if not packed.eof:
        raise ValueError(f"it breaks off, or unpacks to more than {_MOST_UNPACKED:,} bytes")
    return found


def _of_matrix(value: Any) -> Iterator[dict[str, str]]:
    """The records of a character matrix with the names of its columns (``PACKAGES.rds``)."""
    try:
        cells, (rows, _), (_, columns) = value["value"], value["dim"], value["dimnames"]
        for row in range(rows):
            fields = {name: cells[at * rows + row] for at, name in enumerate(columns)}
            yield {name: text for name, text in fields.items() if text is not None}
    except (KeyError, TypeError, IndexError, ValueError) as error:
        raise ValueError("it is no matrix of packages") from error


def _listed(records: Iterable[dict[str, str]], base: str, shown: str) -> Iterator[Offer]:
    for fields in records:
        name, version = fields.get("Package", ""), fields.get("Version", "")
        file = fields.get("File") or f"{name}_{version}.tar.gz"
        folder = fields.get("Path", "")
        # Whatever a list says, it leads to nothing outside of its repository.
        if not _FILE.fullmatch(f"{name}_{version}.tar.gz") or "/" in file or file.startswith("."):
            continue
        if ".." in folder.split("/") or folder.startswith("/"):
            continue
        place = f"{base}/{folder.strip('/')}" if folder else base
        yield Offer(name, version, f"{place}/{file}", shown, fields.get("MD5sum", ""), Description(fields))


def _unlisted(contrib: Path, shown: str) -> Iterator[Offer]:
    """The source packages of a folder without a list."""
    for path in sorted(contrib.iterdir()):
        told = _FILE.fullmatch(path.name)
        if told and path.is_file():
            yield Offer(told[1], told[2], path.as_uri(), shown)
