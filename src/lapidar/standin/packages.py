"""Made-up packages: wheels and source distributions, written the way the standards have them."""

from __future__ import annotations

import base64
import hashlib
import io
import tarfile
import zipfile
from collections.abc import Mapping, Sequence
from pathlib import Path

__all__ = ["metadata", "record_line", "write_source", "write_wheel"]

_TIME = (2020, 1, 1, 0, 0, 0)


def record_line(path: str, data: bytes) -> str:
    """A line of RECORD (Recording installed projects)."""
    digest = base64.urlsafe_b64encode(hashlib.sha256(data).digest()).rstrip(b"=").decode()
    quoted = '"' + path.replace('"', '""') + '"' if any(char in path for char in ',"\n') else path
    return f"{quoted},sha256={digest},{len(data)}\n"


def metadata(
    name: str, version: str, requires: Sequence[str] = (), extras: Sequence[str] = (), requires_python: str = ""
) -> str:
    """The text of METADATA (Core metadata specification)."""
    lines = ["Metadata-Version: 2.1", f"Name: {name}", f"Version: {version}"]
    lines += [f"Requires-Python: {requires_python}"] if requires_python else []
    lines += [f"Requires-Dist: {need}" for need in requires]
    lines += [f"Provides-Extra: {extra}" for extra in extras]
    return "\n".join(lines) + "\n\nMade up.\n"


def write_wheel(
    folder: Path,
    name: str,
    version: str = "1.0",
    files: Mapping[str, bytes | str] | None = None,
    *,
    requires: Sequence[str] = (),
    extras: Sequence[str] = (),
    requires_python: str = "",
    entry_points: str = "",
    tag: str = "py3-none-any",
) -> Path:
    """Write a wheel.

    Args:
        files: by their paths as in a wheel (``.data/...`` included); a module that tells its version is added.
    """
    plain = name.replace("-", "_")
    info = f"{plain}-{version}.dist-info"
    content = {path: data.encode() if isinstance(data, str) else data for path, data in (files or {}).items()}
    content.setdefault(f"{plain}.py", f"VERSION = {version!r}\n".encode())
    content[f"{info}/METADATA"] = metadata(name, version, requires, extras, requires_python).encode()
    content[f"{info}/WHEEL"] = f"Wheel-Version: 1.0\nGenerator: made up\nRoot-Is-Purelib: true\nTag: {tag}\n".encode()
    if entry_points:
        content[f"{info}/entry_points.txt"] = entry_points.encode()
    record = "".join(record_line(path, data) for path, data in content.items()) + f"{info}/RECORD,,\n"
    target = folder / f"{plain}-{version}-{tag}.whl"
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
        for path, data in [*content.items(), (f"{info}/RECORD", record.encode())]:
            member = zipfile.ZipInfo(path, _TIME)
            member.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(member, data)
    return target


def write_source(folder: Path, name: str, version: str, files: Mapping[str, str]) -> Path:
    """Write a source distribution with these files and its PKG-INFO (Source distribution format)."""
    top = f"{name.replace('-', '_')}-{version}"
    target = folder / f"{top}.tar.gz"
    with tarfile.open(target, "w:gz") as archive:
        for path, text in {"PKG-INFO": metadata(name, version), **files}.items():
            member = tarfile.TarInfo(f"{top}/{path}")
            member.size = len(text.encode())
            archive.addfile(member, io.BytesIO(text.encode()))
    return target
