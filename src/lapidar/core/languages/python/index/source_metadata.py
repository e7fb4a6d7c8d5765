"""What a source distribution needs, read out of it without running any of it.

In this order: its PKG-INFO, where the version of that says that needs are static (Core metadata 2.2 and newer), then a
static pyproject.toml (the [project] table), both from the beginning of the archive, of which no more is fetched than
that takes; and last, as a guess, the needs of a wheel of the same version for another platform.
"""

from __future__ import annotations

import io
import tarfile
import tomllib
import zipfile
import zlib
from collections.abc import Iterator, Mapping, Sequence
from typing import IO, Any, NamedTuple

from packaging.metadata import parse_email
from packaging.version import InvalidVersion, Version

from lapidar.core import foreign
from lapidar.core.errors import IndexTrouble
from lapidar.core.languages.python.index import remote_wheel
from lapidar.core.languages.python.index.indexes import Indexes, NoMetadata
from lapidar.core.languages.python.index.page import File
from lapidar.core.languages.python.standards.metadata import Metadata
from lapidar.core.languages.python.standards.wheel import BROKEN_ARCHIVE
from lapidar.core.net.addresses import local_path
from lapidar.core.net.http import Client

__all__ = ["Read", "read"]

_PIECES = (65_536, 1_000_000, 16_000_000)  # bytes of the beginning that are asked for, until it is found
_STATIC_SINCE = (2, 2)
_BROKEN = (*BROKEN_ARCHIVE, tarfile.TarError, zlib.error, EOFError, OSError, ValueError, KeyError)


class Read(NamedTuple):
    """What was read.

    Attributes:
        guessed: from which other file it was taken, where it is only likely; "" where the source itself says it.
    """

    metadata: Metadata
    guessed: str = ""


def read(indexes: Indexes, file: File, name: str, version: Version, others: Sequence[File]) -> Read | None:
    """What a source distribution needs; None where only building it tells.

    Args:
        others: the files of the same version.
    """
    try:
        for texts in _beginnings(indexes, file):
            if found := _static(texts, name, version):
                return Read(found)
    except (*_BROKEN, remote_wheel.NoRanges, IndexTrouble):
        pass  # it is told again, better, where it is fetched to be built
    for other in others:
        if other.is_wheel:
            try:
                metadata = Metadata.parse(indexes.metadata(other).decode("utf-8", "replace"))
            except (NoMetadata, ValueError, IndexTrouble):
                continue
            return Read(metadata, other.name)
    return None


def _static(texts: Mapping[str, bytes], name: str, version: Version) -> Metadata | None:
    for member, find in (("PKG-INFO", _of_pkg_info), ("pyproject.toml", _of_pyproject)):
        if member not in texts:
            continue
        found = find(texts[member], name, version)
        try:
            if found and found.name == name and Version(found.version) == version:
                return found
        except InvalidVersion:
            continue
    return None


def _of_pkg_info(data: bytes, name: str, version: Version) -> Metadata | None:
    text = data.decode("utf-8", "replace")
    headers, _ = parse_email(text.partition("\n\n")[0] + "\n\n")
    told = tuple(int(part) for part in headers.get("metadata_version", "0").split(".") if part.isdigit())
    dynamic = {field.lower() for field in headers.get("dynamic", ())}
    if told < _STATIC_SINCE or dynamic & {"requires-dist", "provides-extra", "requires-python"}:
        return None
    return Metadata.parse(text)


def _of_pyproject(data: bytes, name: str, version: Version) -> Metadata | None:
    """The [project] table, where it says what is needed itself (pyproject.toml specification)."""
    table: Any = foreign.parsed(lambda: tomllib.loads(data.decode("utf-8"))).get("project")
    if not isinstance(table, dict) or "name" not in table:
        return None
    dynamic = table.get("dynamic", [])
    if {"dependencies", "optional-dependencies", "requires-python"} & set(dynamic):
        return None
    optional: dict[str, list[str]] = table.get("optional-dependencies", {})
    lines = [f"Metadata-Version: 2.2\nName: {table['name']}\nVersion: {table.get('version', version)}"]
    if "requires-python" in table:
        lines.append(f"Requires-Python: {table['requires-python']}")
    lines += [f"Requires-Dist: {need}" for need in table.get("dependencies", [])]
    for extra, needs in optional.items():
        lines.append(f"Provides-Extra: {extra}")
        lines += [f"Requires-Dist: {_for_extra(need, extra)}" for need in needs]
    return Metadata.parse("\n".join(lines) + "\n\n")


def _for_extra(need: str, extra: str) -> str:
    plain, semicolon, marker = need.partition(";")
    return f"{plain.rstrip()} ; {f'({marker.strip()}) and ' if semicolon else ''}extra == '{extra}'"


def _beginnings(indexes: Indexes, file: File) -> Iterator[dict[str, bytes]]:
    """The two files, as far as they stand in more and more of the archive."""
    path = local_path(file.url)
    if path is not None:
        with open(path, "rb") as stream:
            yield _in_archive(stream, file.name)
        return
    if file.name.endswith(".zip"):
        yield _in_zip(remote_wheel.RemoteFile(indexes.client, file.url))  # type: ignore[arg-type]
        return
    for size in _PIECES:
        data, is_whole = _beginning(indexes.client, file.url, size)
        yield _in_archive(io.BytesIO(data), file.name)
        if is_whole:
            return


def _beginning(client: Client, url: str, size: int) -> tuple[bytes, bool]:
    headers = {"Range": f"bytes=0-{size - 1}", "Accept-Encoding": "identity"}
    with client.stream(url, headers) as response:
        data = response.read(size)
        return data, len(data) < size


def _in_archive(stream: IO[bytes], name: str) -> dict[str, bytes]:
    if name.endswith(".zip"):
        return _in_zip(stream)
    found: dict[str, bytes] = {}
    try:
        with tarfile.open(fileobj=stream, mode="r|*") as members:
            for member in members:
                if len(found) == 2:
                    break
                top, _, inner = member.name.removeprefix("./").partition("/")
                if top and inner in ("PKG-INFO", "pyproject.toml") and member.size <= foreign.MOST_METADATA_BYTES:
                    content = members.extractfile(member)
                    found[inner] = content.read() if content else b""
    except (tarfile.TarError, zlib.error, EOFError, OSError):
        pass  # it is only the beginning
    return found


def _in_zip(stream: IO[bytes]) -> dict[str, bytes]:
    with zipfile.ZipFile(stream) as members:
        named = {info.filename.partition("/")[2]: info for info in members.infolist() if info.filename.count("/") == 1}
        wanted = [named[inner] for inner in ("PKG-INFO", "pyproject.toml") if inner in named]
        return {
            info.filename.partition("/")[2]: members.read(info)
            for info in wanted
            if info.file_size <= foreign.MOST_METADATA_BYTES
        }
