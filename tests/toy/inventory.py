"""What is found of Glaze in an environment, and where its files go in a restored one."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from lapidar.core.cache.stowing import Draft, FileDraft, Stowed
from lapidar.core.cache.trees import Entry, Tree
from lapidar.core.environment.layout import Layout, Placing
from lapidar.core.errors import EnvironmentUnusable, PackageBroken
from lapidar.core.languages.protocol import (
    ObjectFile,
)
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.records.snapshot import LanguageParts, Origin, Package, Runtime

INTERPRETER = "bin/glaze"
PACKAGES = "lib/glaze"
MANIFEST = "manifest.json"
VERSION_LINE = "# glaze "


@dataclass(frozen=True)
class Manifest:
    """What a package says of itself."""

    name: str
    version: str
    needs: tuple[str, ...] = ()

    @classmethod
    def read(cls, folder: Path) -> Manifest:
        try:
            fields = json.loads((folder / MANIFEST).read_text("utf-8"))
            return cls(fields["name"], fields["version"], tuple(fields.get("needs", ())))
        except (OSError, ValueError, KeyError) as error:
            raise PackageBroken(
                f"{folder} has no good {MANIFEST}", why=str(error), remedy="Install it again."
            ) from error

    @property
    def owner(self) -> Owner:
        return Owner(Layer.PACKAGES, "glaze", self.name, self.version)


@dataclass(frozen=True)
class GlazeInventory:
    """What was found in one environment."""

    folder: Path
    version: str
    packages: Sequence[Manifest]

    language = "glaze"
    program = ""  # a script: nothing is compiled
    libc = ""
    left_out: Sequence[str] = ()
    notes: Sequence[str] = ()
    warnings: Sequence[str] = ()

    @property
    def prefix(self) -> str:
        return str(self.folder)

    @property
    def own_folders(self) -> tuple[str, ...]:
        return (self.prefix,)

    @property
    def process(self) -> str:
        return str(self.folder / INTERPRETER)

    @property
    def library_folders(self) -> Mapping[str, str]:
        return {}

    @property
    def statuses(self) -> Mapping[str, os.stat_result]:
        return {}

    @property
    def _runtime(self) -> Owner:
        return Owner(Layer.RUNTIME, "glaze", "glaze", self.version)

    def drafts(self) -> Mapping[Owner, Sequence[Draft]]:
        drafts = {self._runtime: [FileDraft(INTERPRETER, self.process)]}
        for package in self.packages:
            top = self.folder / PACKAGES / package.name
            files = sorted(path for path in top.rglob("*") if path.is_file())
            drafts[package.owner] = [FileDraft(str(path.relative_to(top)), str(path)) for path in files]
        return drafts

    def files(self) -> Iterator[ObjectFile]:
        return iter(())

    def records(self, stowed: Mapping[Owner, Stowed]) -> LanguageParts:
        tree = stowed[self._runtime].tree
        runtime = Runtime(
            language="glaze",
            implementation="glaze",
            version=self.version,
            build="",
            executable=INTERPRETER,
            places={"packages": PACKAGES},
            tree=tree.digest,
            files=len(tree),
            bytes=tree.total_bytes,
            left_out=(),
        )
        needed = {name for package in self.packages for name in package.needs}
        packages = tuple(
            _record(package, stowed[package.owner].tree, wanted=package.name not in needed) for package in self.packages
        )
        return LanguageParts(runtime, packages, ())

    def edited(self, stowed: Mapping[Owner, Stowed]) -> dict[str, list[str]]:
        return {}


def _record(package: Manifest, tree: Tree, *, wanted: bool) -> Package:
    return Package(
        language="glaze",
        name=package.name,
        version=package.version,
        tree=tree.digest,
        files=len(tree),
        bytes=tree.total_bytes,
        requires=package.needs,
        wanted=wanted,
        origin=Origin(kind="environment"),
    )


def observe(folder: Path) -> GlazeInventory:
    """What an environment has."""
    packages = [Manifest.read(path) for path in sorted((folder / PACKAGES).glob("*/"))]
    return GlazeInventory(folder, version_of(folder / INTERPRETER), packages)


def version_of(interpreter: Path) -> str:
    """The version that an interpreter says of itself."""
    for line in interpreter.read_text("utf-8").splitlines()[1:2]:
        if line.startswith(VERSION_LINE):
            return line.removeprefix(VERSION_LINE)
    raise EnvironmentUnusable(f"{interpreter} does not say its version", remedy="Install glaze again.")


def lay_out(parts: LanguageParts, layout: Layout, at: Placing) -> None:
    """Add all that a restored environment has of it."""
    layout.add(parts.runtime.owner, _placed(at.trees[parts.runtime.tree], ""))
    for package in parts.packages:
        layout.add(package.owner, _placed(at.trees[package.tree], f"{PACKAGES}/{package.name}/"))


def _placed(tree: Tree, below: str) -> Iterator[tuple[Entry, str]]:
    for entry in tree:
        yield entry, below + entry.path
