"""All indexes of a project as one: which to ask for a name, the pages, the metadata, the files."""

from __future__ import annotations

import hashlib
import os
import re
import time
import zipfile
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import lru_cache
from pathlib import Path

from packaging.utils import InvalidSdistFilename, canonicalize_name, parse_sdist_filename

from lapidar.core import foreign, sealed
from lapidar.core.cache.store import Cache
from lapidar.core.declaring.files import DECLARATION_NAME, user_file
from lapidar.core.errors import IndexTrouble
from lapidar.core.languages.python.index import page, remote_wheel
from lapidar.core.languages.python.index.page import File
from lapidar.core.languages.python.standards.wheel import BROKEN_ARCHIVE
from lapidar.core.net.addresses import local_path, without_credentials
from lapidar.core.net.fetching import Fetched
from lapidar.core.net.http import AT_ONCE, Client, Purpose
from lapidar.core.pinning.market import assigned
from lapidar.core.records.declaration import Index

_MOST_NAMES_BYTES = 200_000  # of a list of all names that an index has
_ONE_DAY = 24 * 60 * 60

__all__ = ["PURPOSE", "Indexes", "NoMetadata", "name_of"]

PURPOSE = Purpose(
    "package index",
    "Try again later, or name another address in [index] or LAPIDAR_INDEX. Nothing was changed.",
    IndexTrouble,
)


class NoMetadata(Exception):
    """What a file needs cannot be known; says why."""


_normalised = lru_cache(maxsize=8192)(canonicalize_name)


def name_of(file_name: str) -> str | None:
    """The normalised name of the distribution that a file is of; None where it is not called as the standard has it."""
    if file_name.endswith(".whl"):
        # Taken apart by hand: pages have thousands of names. What is chosen is parsed by the standard's rules later.
        name, dash, _ = file_name.partition("-")
        return _normalised(name) if dash else None
    try:
        return parse_sdist_filename(file_name)[0]
    except InvalidSdistFilename:
        return None


class Indexes:
    """The indexes that a project may use.

    Pages and metadata are asked for ahead, several at once, by threads; what they bring is taken up in the order in
    which it is wanted, so nothing depends on who answers first.

    Args:
        cache: keeps answers and files on their way; without it only pages and metadata can be had.
    """

    def __init__(self, indexes: Sequence[Index], cache: Cache | None) -> None:
        self.indexes = tuple(index for index in indexes if index.language in ("", "python"))
        self.cache = cache
        kept = cache.answers if cache and cache.writable else None
        self.client = Client(PURPOSE, kept, [index.address for index in self.indexes])
        self._pages: dict[str, Future[list[File]]] = {}
        self._metadata: dict[str, Future[bytes]] = {}
        self._pool = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="index")

    def close(self) -> None:
        """Ask for nothing more."""
        self._pool.shutdown(cancel_futures=True)

    def __enter__(self) -> Indexes:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    # ---- pages

    def of_name(self, name: str) -> list[Index]:
        """Where a name is looked for: where it is assigned to, and only there; else wherever not only certain names
        are looked for."""
        return assigned(self.indexes, name)

    def require_any(self) -> None:
        """Raises: IndexTrouble: none is configured."""
        if not self.indexes:
            raise IndexTrouble(
                "No package index is configured, and lapidar asks no host that you did not name",
                remedy=f'Write [index] main = "https://packages.example/simple" (or the path of a folder of wheels) '
                f"into {DECLARATION_NAME} or {user_file()}, or set LAPIDAR_INDEX.",
            )

    def ask_ahead(self, names: Iterable[str]) -> None:
        """The pages of these names will be wanted."""
        for name in names:
            if name not in self._pages:
                self._pages[name] = self._pool.submit(self._page, name)

    def files(self, name: str) -> list[File]:
        """Every file of a name, from the first index that has any.

        Raises:
            IndexTrouble: an index cannot be used.
        """
        self.require_any()
        self.ask_ahead([name])
        return self._pages[name].result()

    def _page(self, name: str) -> list[File]:
        for index in self.of_name(name):
            files = self._page_of(index, name)
            if files:
                return [file for file in files if name_of(file.name) == name]
        return []

    def _page_of(self, index: Index, name: str) -> list[File]:
        folder = local_path(index.address)
        if folder is not None:
            return list(_in_folder(folder, name, without_credentials(index.address)))
        url = f"{index.address}/{name}/"
        answer = self.client.get(url, accept=page.ACCEPT)
        if answer.status in (404, 410):
            return []
        shown = without_credentials(index.address)
        files = page.parse(answer.body, answer.headers.get("content-type", ""), answer.url, shown)
        # A page on a host leads to hosts, never to a file of this machine.
        return [file for file in files if local_path(file.url) is None]

    def names(self, name: str) -> list[str]:
        """All names that the indexes have in which a name is looked for, as far as these are small: in the list of all
        that anybody ever published, what is near to a name is mostly a stranger's. Such a list is asked for at most
        once a day."""
        names: set[str] = set()
        for index in self.of_name(name):
            folder = local_path(index.address)
            try:
                names |= set(_names_in(folder) if folder else self._names_of(index))
            except (IndexTrouble, OSError):
                continue
        return sorted(names)

    def _names_of(self, index: Index) -> list[str]:
        digest = hashlib.sha256(index.address.encode("utf-8", "surrogateescape")).hexdigest()[:32]
        kept = self.cache.answers / f"names-{digest}" if self.cache and self.cache.writable else None
        if kept and kept.exists() and time.time() - kept.stat().st_mtime < _ONE_DAY:
            return (sealed.read(kept) or b"").decode("utf-8", "replace").splitlines()
        with self.client.stream(f"{index.address}/", {"Accept": page.ACCEPT}) as response:
            data = response.read(_MOST_NAMES_BYTES + 1, decode_content=True)
        text = "" if len(data) > _MOST_NAMES_BYTES else data.decode("utf-8", "replace")
        found = re.finditer(r'"name":\s*"([^"]+)"|<a [^>]*>\s*([^<]+?)\s*</a>', text)
        names: list[str] = [canonicalize_name(one[1] or one[2]) for one in found]
        if kept:
            sealed.keep(kept, lambda: "\n".join(names).encode("utf-8"))
        return names

    # ---- metadata

    def metadata_ahead(self, file: File) -> None:
        """The metadata of this file will be wanted."""
        if file.url not in self._metadata:
            self._metadata[file.url] = self._pool.submit(self._metadata_of, file)

    def metadata(self, file: File) -> bytes:
        """The METADATA of a wheel: served beside it, or read out of it in pieces, or in the last resort out of the
        whole.

        Raises:
            NoMetadata: it is not a wheel, or a broken one.
            IndexTrouble: the index cannot be used.
        """
        self.metadata_ahead(file)
        return self._metadata[file.url].result()

    def _metadata_of(self, file: File) -> bytes:
        try:
            path = local_path(file.url)
            if path is not None:
                with open(path, "rb") as stream:
                    return remote_wheel.metadata_in(stream)
            served = self._served(file) if file.has_metadata else None
            if served is not None:
                return served
            return self._read_remotely(file)
        except (*BROKEN_ARCHIVE, OSError) as error:
            raise NoMetadata(f"{file.name} is broken: {error}") from error

    def _read_remotely(self, file: File) -> bytes:
        """The METADATA out of a wheel on a host; kept, by the digest of the wheel that the index promises."""
        kept = self.cache.answers / f"metadata-{file.sha256}" if self.cache and file.sha256 else None
        if kept and (data := sealed.read(kept)):
            return data
        try:
            data = remote_wheel.remote_metadata(self.client, file.url)
        except remote_wheel.NoRanges:
            with self.fetched(file) as whole, open(whole, "rb") as stream:
                data = remote_wheel.metadata_in(stream)
        if kept and self.cache and self.cache.writable:
            sealed.keep(kept, lambda: data)
        return data

    def _served(self, file: File) -> bytes | None:
        """The METADATA beside a file; None where there is none after all."""
        answer = self.client.get(file.url + ".metadata", forever=True)
        if answer.status != 200:
            return None
        if len(answer.body) > foreign.MOST_METADATA_BYTES:
            raise NoMetadata(f"the metadata of {file.name} is larger than {foreign.MOST_METADATA_BYTES:,} bytes")
        if file.metadata_sha256 and hashlib.sha256(answer.body).hexdigest() != file.metadata_sha256:
            raise NoMetadata(f"the metadata of {file.name} is not what its index promises")
        return answer.body

    def members(self, file: File) -> list[str]:
        """The paths in a wheel.

        Raises:
            remote_wheel.NoRanges: the host gives no pieces of files, and this is not worth the whole.
            zipfile.BadZipFile: it is no wheel.
        """
        path = local_path(file.url)
        with zipfile.ZipFile(path or remote_wheel.RemoteFile(self.client, file.url)) as archive:
            return archive.namelist()

    # ---- files

    def fetched(self, file: File) -> Fetched:
        """The file itself, verified, on this machine while it is used."""
        assert self.cache is not None, "files need a cache to lie in"
        return Fetched(self.client, file, self.cache)


def _names_in(folder: Path) -> Iterator[str]:
    for entry in os.listdir(folder):
        yield name_of(entry) or canonicalize_name(entry)


def _below(folder: Path, files: Iterable[File]) -> Iterator[File]:
    """Those that lie below the folder that the user named, or on a host: a page leads to no other file of this machine.

    Raises:
        IndexTrouble: one lies elsewhere.
    """
    root = folder.resolve()
    for file in files:
        path = local_path(file.url)
        if path is not None and not path.resolve().is_relative_to(root):
            raise IndexTrouble(
                f"A page of {folder} leads to a file outside of it: {path}",
                remedy="Name the folder that holds both the pages and the files.",
            )
        if path is None or path.is_file():
            yield file


def _in_folder(folder: Path, name: str, index: str) -> Iterator[File]:
    """The files of a name in a folder: of wheels and source distributions, or of pages as an index has them."""
    if not folder.is_dir():
        raise IndexTrouble(f"There is no folder {folder}", remedy="Look at its path in [index] or LAPIDAR_INDEX.")
    for html in (folder / name / "index.html", folder / "simple" / name / "index.html"):
        if html.is_file():
            text = foreign.read_text(html, errors="replace", most=foreign.MOST_PAGE_BYTES)
            yield from _below(folder, page.of_html(text, html.as_uri(), index))
            return
    for entry in sorted(os.listdir(folder)):
        # Cheaper than parsing every name in a folder of hundreds.
        if canonicalize_name(entry).startswith(name) and name_of(entry) == name:
            path = folder / entry
            if not path.is_file():
                continue  # a pipe would be waited for
            yield File(name=entry, url=path.as_uri(), bytes=path.stat().st_size, index=index)
