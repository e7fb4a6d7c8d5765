"""Made-up packages of R: source packages and repositories of them, written the way Writing R Extensions and R
Administration have them."""

from __future__ import annotations

import gzip
import hashlib
import io
import tarfile
from collections.abc import Mapping
from pathlib import Path

__all__ = ["write_list", "write_source_package"]

_TIME = 1_577_836_800  # 2020-01-01


def write_source_package(
    folder: Path, name: str, version: str = "1.0", files: Mapping[str, str] | None = None, **fields: str
) -> Path:
    """Write a source package.

    Args:
        files: by their paths in it, beside DESCRIPTION and NAMESPACE; a function that tells its version is added.
        fields: of the DESCRIPTION; those with a hyphen or a slash in them as a mapping.
    """
    described = {
        "Package": name,
        "Version": version,
        "Title": "Made Up",
        "Author": "Nobody",
        "Maintainer": "Nobody <nobody@packages.example>",
        "Description": "Made up.",
        "License": "MIT",
        **fields,
    }
    content = {
        "DESCRIPTION": "".join(f"{key}: {value}\n" for key, value in described.items()),
        "NAMESPACE": 'exportPattern("^[a-z]")\n',
        f"R/{name}.R": f'{name}_version <- function() "{version}"\n',
        **(files or {}),
    }
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / f"{name}_{version}.tar.gz"
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode="w") as archive:
        for inner, text in content.items():
            data = text.encode()
            info = tarfile.TarInfo(f"{name}/{inner}")
            info.size, info.mtime, info.mode = len(data), _TIME, 0o644
            archive.addfile(info, io.BytesIO(data))
    path.write_bytes(gzip.compress(packed.getvalue(), mtime=0))
    return path


def write_list(contrib: Path, *, packed: bool = False) -> None:
    """Write the list of a folder of source packages.

    Args:
        packed: as ``PACKAGES.gz`` alone.
    """
    records = []
    for path in sorted(contrib.glob("*.tar.gz")):
        with tarfile.open(path) as archive:
            stream = archive.extractfile(f"{path.name.partition('_')[0]}/DESCRIPTION")
            assert stream
            text = stream.read().decode()
        kept = ("Package:", "Version:", "Depends:", "Imports:", "LinkingTo:", "Published:", "OS_type:")
        lines = [line for line in text.splitlines() if line.startswith(kept)]
        records.append("\n".join([*lines, f"MD5sum: {hashlib.md5(path.read_bytes()).hexdigest()}"]))
    listed = ("\n\n".join(records) + "\n").encode()
    if packed:
        (contrib / "PACKAGES.gz").write_bytes(gzip.compress(listed, mtime=0))
    else:
        (contrib / "PACKAGES").write_bytes(listed)
