"""A snapshot as a bill of materials: CycloneDX 1.6 in JSON (ECMA-424), written by its own library.

The same snapshot gives the same bytes: the serial number is made from its identity, and no time is in it.
"""

from __future__ import annotations

import json
import re
import uuid
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import judge
from lapidar.core.errors import LapidarError
from lapidar.core.exchange.licences import licence_of
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.owner import PackageName
from lapidar.core.records.snapshot import Package, Snapshot

if TYPE_CHECKING:
    from cyclonedx.model.bom import Bom
    from cyclonedx.model.component import Component

__all__ = ["render"]

_NAMESPACE = uuid.UUID("3c9a0f0e-6c1b-5d1e-9a53-2f0d7f0b7c11")  # of our own: serial numbers are made below it
_RPM = re.compile(r"\.(?:el|fc|amzn|suse|mga|oe)\d")


def render(snapshot: Snapshot, cache: Cache | None, name: str) -> str:
    """The bill of materials of a snapshot.

    Args:
        cache: has what packages say of their licences and needs; without it these are left out.
        name: what the project is called.

    Raises:
        LapidarError: the library that writes it is not installed.
    """
    try:
        from cyclonedx.output.json import JsonV1Dot6
    except ImportError as error:
        raise LapidarError(
            "A bill of materials is written by a library that is not installed here",
            why=str(error),
            remedy="Install it beside Lapidar: pip install 'lapidar[exchange]'.",
        ) from error
    text = JsonV1Dot6(_bom(snapshot, cache, name)).output_as_string()
    whole: dict[str, Any] = json.loads(text)
    whole.get("metadata", {}).pop("timestamp", None)
    return json.dumps(whole, indent=2, ensure_ascii=False) + "\n"


def _bom(snapshot: Snapshot, cache: Cache | None, name: str) -> Bom:
    from cyclonedx.model import Property
    from cyclonedx.model.bom import Bom
    from cyclonedx.model.component import Component, ComponentType

    bom = Bom(serial_number=uuid.uuid5(_NAMESPACE, snapshot.snapshot))
    root = Component(
        name=name,
        type=ComponentType.APPLICATION,
        bom_ref="project",
        properties=[Property(name="lapidar:snapshot", value=snapshot.snapshot)],
    )
    bom.metadata.component = root
    of_packages = {one.key: _of_package(one, cache) for one in snapshot.packages}
    runtimes = [
        Component(
            name=one.implementation,
            version=one.version,
            type=ComponentType.PLATFORM,
            bom_ref=f"runtime/{one.language}",
            hashes=[_sha256(one.tree)],
        )
        for one in snapshot.runtimes
    ]
    others = list(_of_system(snapshot))
    for component in (*runtimes, *of_packages.values(), *others):
        bom.components.add(component)
    _add_needs(bom, snapshot, cache, of_packages)
    bom.register_dependency(root, [*runtimes, *(of_packages[one.key] for one in snapshot.packages if one.asked_for)])
    for one in runtimes:
        bom.register_dependency(one, others)
    return bom


def _add_needs(bom: Bom, snapshot: Snapshot, cache: Cache | None, found: dict[PackageName, Component]) -> None:
    needs = judge.graph(snapshot, Declaration(), cache).edges
    for key, component in found.items():
        targets = sorted({edge.target for edge in needs.get(key, ()) if edge.target in found})
        bom.register_dependency(component, [found[one] for one in targets])


def _sha256(digest: str) -> Any:
    from cyclonedx.model import HashAlgorithm, HashType

    return HashType(alg=HashAlgorithm.SHA_256, content=digest.removeprefix("sha256:"))


def _of_package(one: Package, cache: Cache | None) -> Component:
    """A package, with the digest of the file that it came from where that is known, and of its tree besides."""
    from cyclonedx.factory.license import LicenseFactory
    from cyclonedx.model import Property
    from cyclonedx.model.component import Component, ComponentScope
    from packageurl import PackageURL

    licence = licence_of(one, cache) if cache else ""
    kind = languages.of(one.language).package_urls
    return Component(
        name=one.name,
        version=one.version,
        bom_ref=f"{one.language}/{one.name}",
        purl=PackageURL(kind, None, one.name, one.version),
        scope=ComponentScope.REQUIRED,
        hashes=[_sha256(one.origin.sha256)] if one.origin.sha256 else [],
        licenses=[LicenseFactory().make_from_string(licence)] if licence else [],
        properties=[Property(name="lapidar:tree", value=one.tree)],
    )


def _of_system(snapshot: Snapshot) -> Iterator[Component]:
    """System libraries and outside programs, each with the system's package that it is of."""
    from cyclonedx.model import Property
    from cyclonedx.model.component import Component, ComponentType

    for library in snapshot.libraries:
        yield Component(
            name=library.soname,
            version=library.owner_version,
            bom_ref=f"library/{library.soname}",
            purl=_purl(library.owner, library.owner_version, snapshot),
            hashes=[_sha256(library.sha256)],
        )
    for tool in snapshot.tools:
        yield Component(
            name=tool.name,
            version=tool.owner_version,
            type=ComponentType.APPLICATION,
            bom_ref=f"program/{tool.name}",
            purl=_purl(tool.owner, tool.owner_version, snapshot),
            properties=[Property(name="lapidar:tree", value=tool.tree)],
        )


def _purl(owner: str | None, version: str | None, snapshot: Snapshot) -> Any:
    """The URL of a system's package; None where nobody owns it. A lockfile has no name of a distribution, and its
    versions tell which kind of package it is."""
    from packageurl import PackageURL

    if not owner:
        return None
    kind = "rpm" if _RPM.search(version or "") else "deb"
    machine = {"x86_64": "amd64", "aarch64": "arm64"} if kind == "deb" else {}
    arch = machine.get(snapshot.platform.machine, snapshot.platform.machine)
    return PackageURL(kind, None, owner, version, {"arch": arch})
