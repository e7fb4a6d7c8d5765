"""Archives in one form: what has the same files has the same bytes, whoever built it, and when."""

from __future__ import annotations

import tarfile
import time
import zipfile
from pathlib import Path

from lapidar.core.cache.files import FILE_TIME_SECONDS
from lapidar.core.errors import PackageBroken
from lapidar.core.languages import plain_tar

__all__ = ["source", "wheel"]

_TIME = time.gmtime(FILE_TIME_SECONDS)[:6]
_MOST_BYTES = 4_000_000_000


def wheel(path: Path, target: Path) -> None:
    """A wheel with its files in order (its metadata last, as the Binary distribution format advises), one time and
    plain modes."""
    try:
        with (
            zipfile.ZipFile(path) as given,
            zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as made,
        ):
            members = [one for one in given.infolist() if not one.is_dir()]
            for one in sorted(members, key=lambda one: (".dist-info/" in one.filename, one.filename)):
                info = zipfile.ZipInfo(one.filename, _TIME)
                info.compress_type = zipfile.ZIP_DEFLATED
                info.create_system = 3
                info.external_attr = (0o100755 if one.external_attr >> 16 & 0o100 else 0o100644) << 16
                made.writestr(info, given.read(one))
    except (zipfile.BadZipFile, OSError, RuntimeError) as error:
        raise PackageBroken(f"{path.name} is no wheel", why=str(error)) from error


def source(path: Path, target: Path) -> None:
    """A source archive (Source distribution format: PAX) with its files in order, of nobody, of one time."""
    try:
        with tarfile.open(path) as given:
            members = sorted((one for one in given if one.isfile() or one.issym()), key=lambda one: one.name)
            if sum(one.size for one in members) > _MOST_BYTES:
                raise PackageBroken(f"{path.name} unpacks to more than {_MOST_BYTES:,} bytes")
            data = plain_tar.packed((_plain(one), given.extractfile(one) if one.isfile() else None) for one in members)
    except (tarfile.TarError, OSError, EOFError) as error:
        raise PackageBroken(f"{path.name} is no source archive", why=str(error)) from error
    target.write_bytes(data)


def _plain(member: tarfile.TarInfo) -> tarfile.TarInfo:
    size, link = (member.size, "") if member.isfile() else (0, member.linkname)
    return plain_tar.entry(member.name, size, executable=bool(member.mode & 0o100), link=link)
