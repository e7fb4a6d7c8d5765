"""The page of a project: which files an index has of it.

Simple repository API, https://packaging.python.org/en/latest/specifications/simple-repository-api/, in its JSON and
its HTML form.
"""

from __future__ import annotations

import re
from html.parser import HTMLParser
from typing import Any
from urllib.parse import unquote, urldefrag, urljoin

import msgspec

from lapidar.core import decoding, foreign
from lapidar.core.errors import IndexTrouble

__all__ = ["ACCEPT", "File", "of_html", "parse"]

ACCEPT = "application/vnd.pypi.simple.v1+json, application/vnd.pypi.simple.v1+html;q=0.2, text/html;q=0.1"
_PLAIN_URL = re.compile(r"https?://[^#]*$")  # most are; joining is slow for the thousands of a page
_ARCHIVES = (".whl", ".tar.gz", ".zip", ".tar.bz2", ".tar.xz", ".tgz", ".egg", ".exe")


class File(msgspec.Struct, frozen=True):
    """A file of an index.

    Attributes:
        url: absolute; ``file:`` for one on this machine.
        sha256: hex; "" where the index does not tell.
        requires_python: as the index tells it.
        withdrawn: why it was withdrawn ("" for no reason given); None where it was not.
        uploaded: when, ISO 8601; "" where the index does not tell.
        bytes: its size; None where the index does not tell.
        has_metadata: whether the index serves its METADATA beside it; `metadata_sha256` may verify it.
        index: the address of the index it was found on.
    """

    name: str
    url: str
    sha256: str = ""
    requires_python: str = ""
    withdrawn: str | None = None
    uploaded: str = ""
    bytes: int | None = None
    has_metadata: bool = False
    metadata_sha256: str = ""
    index: str = ""

    @property
    def is_wheel(self) -> bool:
        return self.name.endswith(".whl")


class _JsonFile(msgspec.Struct, rename="kebab"):
    filename: str
    url: str
    hashes: dict[str, str] = {}
    requires_python: str | None = None
    yanked: bool | str = False
    upload_time: str | None = msgspec.field(default=None, name="upload-time")
    size: int | None = None
    core_metadata: bool | dict[str, str] | None = None
    dist_info_metadata: bool | dict[str, str] | None = None


class _JsonPage(msgspec.Struct):
    files: list[_JsonFile]
    meta: dict[str, Any] = {}


def parse(body: bytes, content_type: str, url: str, index: str) -> list[File]:
    """Read a page.

    Args:
        content_type: as the index gives it.
        url: where the page was found; links are relative to it.

    Raises:
        IndexTrouble: it is no page of an index, or one of a newer version of the standard.
    """
    kind = content_type.partition(";")[0].strip().lower()
    if kind.endswith("+json") or kind == "application/json":
        return _of_json(body, url, index)
    if kind in ("text/html", "application/vnd.pypi.simple.v1+html"):
        return of_html(body.decode("utf-8", "replace"), url, index)
    raise _no_index(index, f"it answers with {kind or 'no content type'}")


def _no_index(index: str, why: str) -> IndexTrouble:
    return IndexTrouble(
        f"{index} is not a package index",
        why=why,
        remedy="Look at the address in [index]; it often ends in /simple.",
    )


def _of_json(body: bytes, url: str, index: str) -> list[File]:
    """The JSON form."""
    try:
        page = foreign.parsed(lambda: decoding.from_json(body, _JsonPage))
    except ValueError as error:
        raise _no_index(index, f"its page does not have the form of the standard: {error}") from error
    _verify_version(str(page.meta.get("api-version", "1.0")), index)
    return [_of_json_file(file, url, index) for file in page.files]


def _verify_version(version: str, index: str) -> None:
    if version.partition(".")[0] != "1":
        raise IndexTrouble(
            f"{index} speaks version {version} of the Simple API, and this lapidar version 1",
            remedy="Install a newer lapidar.",
        )


def _of_json_file(file: _JsonFile, url: str, index: str) -> File:
    metadata = file.core_metadata if file.core_metadata is not None else file.dist_info_metadata
    return File(
        name=file.filename,
        url=file.url if _PLAIN_URL.match(file.url) else urljoin(url, urldefrag(file.url)[0]),
        sha256=file.hashes.get("sha256", "").lower(),
        requires_python=file.requires_python or "",
        withdrawn=None if file.yanked is False else "" if file.yanked is True else file.yanked,
        uploaded=file.upload_time or "",
        bytes=file.size,
        has_metadata=bool(metadata),
        metadata_sha256=metadata.get("sha256", "") if isinstance(metadata, dict) else "",
        index=index,
    )


class _Links(HTMLParser):
    """The anchors of a page with their attributes, the base address, and the version of the standard."""

    def __init__(self) -> None:
        super().__init__()
        self.base = ""
        self.version = "1.0"
        self.links: list[dict[str, str]] = []

    def handle_starttag(self, tag: str, attributes: list[tuple[str, str | None]]) -> None:
        values = {name: value or "" for name, value in attributes}
        if tag == "a" and "href" in values:
            self.links.append(values)
        elif tag == "base" and not self.base:
            self.base = values.get("href", "")
        elif tag == "meta" and values.get("name") == "pypi:repository-version":
            self.version = values.get("content", "1.0")


def of_html(text: str, url: str, index: str) -> list[File]:
    """The HTML form."""
    links = _Links()
    links.feed(text)
    _verify_version(links.version, index)
    base = urljoin(url, links.base)
    files = [file for link in links.links if (file := _of_link(link, base, index))]
    if not files and (links.links or not _is_html(text)):
        raise _no_index(index, "its page links to no package")
    return files


def _is_html(text: str) -> bool:
    head = text[:2000].lower()
    return "<html" in head or "<!doctype" in head[:200]


def _of_link(link: dict[str, str], base: str, index: str) -> File | None:
    url, fragment = urldefrag(urljoin(base, link["href"]))
    name = unquote(url.rpartition("/")[2])
    if not name.endswith(_ARCHIVES):
        return None
    digest = re.search(r"(?:^|&)sha256=([0-9a-fA-F]{64})", fragment)
    metadata = link.get("data-core-metadata", link.get("data-dist-info-metadata"))
    return File(
        name=name,
        url=url,
        sha256=digest[1].lower() if digest else "",
        requires_python=link.get("data-requires-python", ""),
        withdrawn=link.get("data-yanked"),
        has_metadata=metadata is not None and metadata != "false",
        metadata_sha256=(metadata or "").removeprefix("sha256=") if metadata and "=" in metadata else "",
        index=index,
    )
