"""``pylock.toml``: the standard lock file of Python packages, written from a snapshot and read into a plan.

pylock.toml specification, https://packaging.python.org/en/latest/specifications/pylock-toml/
"""

from __future__ import annotations

from pathlib import Path
from urllib.parse import urljoin

import tomlkit
from packaging.pylock import (
    Package,
    PackageArchive,
    PackageDirectory,
    PackageSdist,
    PackageVcs,
    PackageWheel,
    Pylock,
    PylockSelectError,
    PylockValidationError,
)
from packaging.specifiers import SpecifierSet
from packaging.tags import parse_tag
from packaging.utils import canonicalize_name
from packaging.version import Version

from lapidar.core.declaring.project import load
from lapidar.core.errors import DeclarationError, LapidarError
from lapidar.core.languages.python.index.page import File
from lapidar.core.languages.python.pinning.cached import CachedPackage
from lapidar.core.languages.python.pinning.supply import Supply
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.standards import direct_url
from lapidar.core.records.snapshot import Origin, Snapshot
from lapidar.core.records.snapshot import Package as Pinned

__all__ = ["found_in", "render"]


def render(snapshot: Snapshot) -> str:
    """The text of the pylock.toml of a snapshot.

    Raises:
        LapidarError: a package has no origin that another program could get it from.
    """
    _require_origins(snapshot)
    runtime = snapshot.runtime_of("python")
    short = ".".join(runtime.version.split(".")[:2]) if runtime else "3"
    lock = Pylock(
        lock_version=Version("1.0"),
        requires_python=SpecifierSet(f"=={short}.*"),
        created_by="lapidar",
        packages=[_package(package) for package in snapshot.packages if package.language == "python"],
    )
    lock.validate()
    return "# Written by lapidar from lapidar.lock.\n" + tomlkit.dumps(lock.to_dict())


def _require_origins(snapshot: Snapshot) -> None:
    without = [
        package.name for package in snapshot.packages if package.language == "python" and not _is_reachable(package)
    ]
    if without:
        shown = ", ".join(without[:6]) + (f" and {len(without) - 6} more" if len(without) > 6 else "")
        raise LapidarError(
            f"{shown} cannot be exported",
            why="only the captured environment, or a folder of another machine, is known to have had them",
            remedy="`lapidar pin` gives every declared need an origin; a snapshot itself travels with its cache.",
        )


def _is_reachable(package: Pinned) -> bool:
    origin = package.origin
    return bool(origin.url) or origin.kind == "local" or (origin.kind == "index" and not _is_address(origin.index))


def _is_address(text: str | None) -> bool:
    return "://" in (text or "")


def _package(package: Pinned) -> Package:
    origin = package.origin
    hashes = {"sha256": origin.sha256 or ""}
    name = canonicalize_name(package.name)
    version = Version(package.version)
    if origin.kind == "version-control":
        vcs = PackageVcs(
            type=origin.system or "git",
            url=origin.url,
            commit_id=origin.commit or "",
            requested_revision=origin.revision,
            subdirectory=origin.subdirectory,
        )
        return Package(name=name, vcs=vcs)
    if origin.kind == "local":
        return Package(name=name, directory=PackageDirectory(path=origin.path or ".", editable=bool(origin.folders)))
    if origin.kind == "archive":
        archive = PackageArchive(url=origin.url, size=origin.bytes, hashes=hashes, subdirectory=origin.subdirectory)
        return Package(name=name, version=version, archive=archive)
    path = None if origin.url else f"{origin.index}/{origin.file}"
    index = origin.index if _is_address(origin.index) else None
    if (origin.file or "").endswith(".whl"):
        wheel = PackageWheel(name=origin.file, url=origin.url, path=path, size=origin.bytes, hashes=hashes)
        return Package(name=name, version=version, index=index, wheels=[wheel])
    sdist = PackageSdist(name=origin.file, url=origin.url, path=path, size=origin.bytes, hashes=hashes)
    return Package(name=name, version=version, index=index, sdist=sdist)


def found_in(path: Path, target: Target, supply: Supply) -> dict[str, CachedPackage | File]:
    """What a pylock.toml locks for a target, by name.

    Raises:
        DeclarationError: it cannot be read, or is not valid by the standard; says where.
        LapidarError: it has nothing that fits the target.
    """
    data = load(path, str(path))
    tags = [tag for text in target.tags for tag in parse_tag(text)]
    try:
        lock = Pylock.from_dict(data)
        environment = {**target.markers}
        selected = list(lock.select(environment=environment, tags=tags))  # type: ignore[arg-type]
    except PylockValidationError as error:
        raise DeclarationError(
            f"{path} is not a valid pylock.toml", why=str(error), remedy="Have it written anew."
        ) from error
    except PylockSelectError as error:
        raise LapidarError(
            f"{path} has not everything for {target}",
            why=str(error),
            remedy="Pin for the runtime that it is for (--runtime).",
        ) from error
    found: dict[str, CachedPackage | File] = {}
    for package, source in selected:
        found[package.name] = _source(supply, path, package, source)
    return found


def _source(
    supply: Supply,
    lock: Path,
    package: Package,
    source: PackageVcs | PackageDirectory | PackageArchive | PackageWheel | PackageSdist,
) -> CachedPackage | File:
    if isinstance(source, PackageVcs):
        origin = Origin(
            kind="version-control",
            url=source.url or source.path,
            commit=source.commit_id,
            subdirectory=source.subdirectory,
        )
        return supply.named(package.name, direct_url.reference(origin))
    if isinstance(source, PackageDirectory):
        return supply.named(package.name, str(lock.parent / source.path))
    digest = source.hashes.get("sha256")
    if not digest:
        raise DeclarationError(f"{lock}: {package.name} has no sha256", remedy="lapidar believes no file without one.")
    base = lock.absolute().as_uri()
    name = source.filename if not isinstance(source, PackageArchive) else _last(source)
    url = source.url or urljoin(base, source.path or "")
    return File(name=name, url=url, sha256=digest, bytes=source.size, index=package.index or "")


def _last(source: PackageArchive) -> str:
    return (source.url or source.path or "").rpartition("/")[2]
