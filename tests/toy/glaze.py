"""Glaze, a language that nobody has: its interpreter is a shell script, its packages are folders with one manifest.

The environment of a project lies in its folder ``kiln``: the interpreter in ``bin/glaze`` says its version in its
second line, and ``lib/glaze/NAME/`` is a package, with its name, version and needs in ``manifest.json``.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from lapidar.core.cache.stowing import Draft, FileDraft, Stowed
from lapidar.core.cache.trees import Entry, Tree
from lapidar.core.environment.layout import Layout, Placing
from lapidar.core.errors import EnvironmentUnusable, PackageBroken
from lapidar.core.languages.basic import BasicLanguage
from lapidar.core.languages.protocol import (
    Language,
    LanguageRecords,
    Located,
    ObjectFile,
    ObserveOptions,
    Stray,
    Variables,
)
from lapidar.core.project import Project
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

    def records(self, stowed: Mapping[Owner, Stowed]) -> LanguageRecords:
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
        return LanguageRecords(runtime, packages, ())

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


class Glaze(BasicLanguage):
    """See `Language`."""

    name = "glaze"
    title = "Glaze"
    variables = Variables(watched=("GLAZE_SEED",), hidden=("GLAZE_PACKAGES",))

    def locate(self, project: Project, named: Path | None) -> Located | None:
        folder = Path(os.path.abspath(named)) if named else project.root / "kiln"
        interpreter = folder / INTERPRETER
        if not interpreter.is_file():
            return None
        return Located("glaze", interpreter, "named on the command line" if named else "the project's own kiln")

    def observe(self, located: Located, project: Project, options: ObserveOptions) -> GlazeInventory:
        folder = located.interpreter.parent.parent
        packages = [Manifest.read(path) for path in sorted((folder / PACKAGES).glob("*/"))]
        return GlazeInventory(folder, self.runtime_version(located), packages)

    def runtime_version(self, located: Located) -> str:
        for line in located.interpreter.read_text("utf-8").splitlines()[1:2]:
            if line.startswith(VERSION_LINE):
                return line.removeprefix(VERSION_LINE)
        raise EnvironmentUnusable(f"{located.interpreter} does not say its version", remedy="Install glaze again.")

    def lay_out(self, parts: LanguageParts, layout: Layout, at: Placing) -> None:
        layout.add(parts.runtime.owner, _placed(at.trees[parts.runtime.tree], ""))
        for package in parts.packages:
            layout.add(package.owner, _placed(at.trees[package.tree], f"{PACKAGES}/{package.name}/"))

    def strays(self, runtime: Runtime, extra: Iterable[str]) -> Iterator[Stray]:
        for path in extra:
            if path.startswith(f"{PACKAGES}/") and path.endswith(f"/{MANIFEST}"):
                yield Stray(path.split("/")[2], "")


def _placed(tree: Tree, below: str) -> Iterator[tuple[Entry, str]]:
    for entry in tree:
        yield entry, below + entry.path


LANGUAGE: Language = Glaze()
