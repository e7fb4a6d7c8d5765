"""Archives are brought to an index, by the upload protocol that package indexes speak: a form with the metadata, posted
(`protocol_version` 1)."""

from __future__ import annotations

import hashlib
import re
import tarfile
import zipfile
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import urlsplit

import urllib3
from msgspec import Struct
from packaging.metadata import RawMetadata, parse_email
from packaging.utils import (
    InvalidSdistFilename,
    InvalidWheelFilename,
    canonicalize_name,
    parse_sdist_filename,
    parse_wheel_filename,
)
from packaging.version import InvalidVersion, Version

from lapidar.core import foreign
from lapidar.core.cache.digest import sha256_of
from lapidar.core.errors import DeclarationError, IndexTrouble, PackageBroken
from lapidar.core.languages.python.index.indexes import PURPOSE
from lapidar.core.languages.python.index.page import File
from lapidar.core.net.http import Client

__all__ = ["Archive", "notes_on", "opened", "require_new", "upload"]

_MOST_BYTES = 2_000_000_000
_LINES, _COLUMNS = 4, 300  # of what a server says


class Archive(Struct, frozen=True):
    """An archive that is to be published.

    Attributes:
        kind: ``bdist_wheel`` or ``sdist``, as the protocol has it.
        pyversion: for what it is, likewise.
        told: its metadata.
    """

    path: Path
    name: str
    version: str
    kind: str
    pyversion: str
    told: RawMetadata
    sha256: str


def opened(path: Path) -> Archive:
    """Read an archive.

    Raises:
        PackageBroken: it is none, or its metadata says something else than its name.
    """
    try:
        if path.name.endswith(".whl"):
            name, version, _, tags = parse_wheel_filename(path.name)
            kind, pyversion = "bdist_wheel", ".".join(sorted({tag.interpreter for tag in tags}))
            with zipfile.ZipFile(path) as archive:
                inside = next(
                    one for one in archive.namelist() if one.endswith(".dist-info/METADATA") and one.count("/") == 1
                )
                data = archive.read(inside)
        else:
            name, version = parse_sdist_filename(path.name)
            kind, pyversion = "sdist", "source"
            with tarfile.open(path) as source:
                member = next(one for one in source if one.name.endswith("/PKG-INFO") and one.name.count("/") == 1)
                stream = source.extractfile(member)
                data = stream.read(foreign.MOST_METADATA_BYTES) if stream else b""
    except (
        InvalidWheelFilename,
        InvalidSdistFilename,
        zipfile.BadZipFile,
        tarfile.TarError,
        StopIteration,
        OSError,
        EOFError,
    ) as error:
        raise PackageBroken(
            f"{path.name} is nothing to publish",
            why=str(error) or "it has no metadata",
            remedy="Name a wheel or a source archive: lapidar build makes both.",
        ) from error
    told, _ = parse_email(data)
    try:
        same = canonicalize_name(told.get("name", "")) == name and Version(told.get("version", "")) == version
    except InvalidVersion:
        same = False
    if not same:
        raise PackageBroken(
            f"{path.name} says of itself that it is {told.get('name')} {told.get('version')}",
            remedy="Build it again: lapidar build.",
        )
    return Archive(path, str(name), str(version), kind, pyversion, told, sha256_of(str(path)))


def notes_on(archive: Archive) -> Iterator[str]:
    """What an index would take and people would miss, a sentence each."""
    if not archive.told.get("description", "").strip():
        yield f"{archive.path.name} has no long description: readme in pyproject.toml"
    if not archive.told.get("summary", "").strip():
        yield f"{archive.path.name} has no summary: description in pyproject.toml"
    if not (archive.told.get("license_expression") or archive.told.get("license") or archive.told.get("license_files")):
        yield f"{archive.path.name} states no licence: license in pyproject.toml"


def require_new(archive: Archive, there: list[File]) -> bool:
    """Whether an archive is not on its index yet.

    Args:
        there: what the index has of its name.

    Raises:
        DeclarationError: it has another file of that name.
    """
    same = next((one for one in there if one.name == archive.path.name), None)
    if same is None:
        return True
    if same.sha256 and same.sha256 != archive.sha256:
        raise DeclarationError(
            f"The index has another {archive.path.name}",
            why="what was published stays what it is",
            remedy="Give it another version, and build it again.",
        )
    return False


def upload(archive: Archive, address: str) -> None:
    """Bring an archive there.

    Args:
        address: that takes uploads.

    Raises:
        IndexTrouble: it is refused, in the server's words; or there is no answer.
    """
    data = foreign.read(archive.path, _MOST_BYTES)
    fields: list[tuple[str, str | tuple[str, bytes, str]]] = [
        (":action", "file_upload"),
        ("protocol_version", "1"),
        ("filetype", archive.kind),
        ("pyversion", archive.pyversion),
        ("sha256_digest", archive.sha256),
        ("blake2_256_digest", hashlib.blake2b(data, digest_size=32).hexdigest()),
    ]
    for name, value in archive.told.items():
        if isinstance(value, dict):
            fields += [(name, f"{key}, {one}") for key, one in value.items()]
        elif isinstance(value, list):
            fields += [(name, str(one)) for one in value]
        else:
            fields.append((name, str(value)))
    fields.append(("content", (archive.path.name, data, "application/octet-stream")))
    body, kind = urllib3.encode_multipart_formdata(fields)
    answer = Client(PURPOSE, None, [address]).ask("POST", address, {"Content-Type": kind}, body)
    if answer.status not in (200, 201):
        raise IndexTrouble(
            f"{archive.path.name} was not taken (status {answer.status})",
            why=_words_of(answer.body),
            remedy=f"Put name and password for {urlsplit(address).netloc} into ~/.netrc."
            if answer.status in (401, 403)
            else "What was sent before it is there; say it again when it is mended.",
        )


def _words_of(body: bytes) -> str:
    """What a server says, as far as people read it."""
    text = re.sub(r"(?is)<(script|style|head).*?</\1>|<[^>]+>", " ", body.decode("utf-8", "replace"))
    lines = [" ".join(line.split())[:_COLUMNS] for line in text.splitlines() if line.strip()]
    return "\n  ".join(lines[:_LINES]) or "it says nothing more"
