"""What a project says of its glazes: in ``glaze.toml``, and in its recipes (``*.glz``). And which change did it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Tree
from lapidar.core.declaring import reading
from lapidar.core.declaring.editing import NeedsFile
from lapidar.core.declaring.project import ProjectFiles
from lapidar.core.languages import sources as folders
from lapidar.core.languages.basic import BasicDeclaring
from lapidar.core.languages.protocol import Declared, Located
from lapidar.core.languages.surveying import (
    DeclaredNeed,
    FileRead,
    Judge,
    Provider,
    SourceUses,
    Use,
    judged,
    read_all,
    surveyed,
)
from lapidar.core.place import Place
from lapidar.core.records.declaration import Index
from lapidar.core.records.snapshot import Package, Runtime, Snapshot
from lapidar.core.records.surveyed import Surveyed
from toy import inventory

FILE_NAME = "glaze.toml"


class GlazeDeclaring(BasicDeclaring):
    def declared(self, project: ProjectFiles) -> Declared:
        data = project.toml(FILE_NAME)
        if data is None:
            return Declared()
        parse = languages.of("glaze").versions.parse_need
        groups = {"": data.get("needs", []), **data.get("groups", {})}
        needs = tuple(parse(text, FILE_NAME, group) for group, texts in groups.items() for text in texts)
        return Declared(needs=needs, files=(FILE_NAME,))

    def standard_place(self, root: Path) -> NeedsFile | None:
        if not (root / FILE_NAME).is_file():
            return None
        text = (root / FILE_NAME).read_text("utf-8")
        return NeedsFile(FILE_NAME, text, language=languages.of("glaze"), main=("needs",), groups=("groups",))


class GlazeSurveying:
    def sources(self, root: Path) -> Iterable[str]:
        return [path for path in folders.find(root, lambda name: name.endswith(".glz")) if "kiln" not in path]

    def survey(
        self,
        place: Place,
        located: Located | None,
        cache: Cache | None,
        *,
        indexes: Sequence[Index] = (),
        pinned: Snapshot | None = None,
    ) -> Surveyed:
        if pinned is not None:
            here = {one.name: one.version for one in pinned.packages if one.language == "glaze"}
        else:
            kiln = inventory.observe(located.interpreter.parent.parent) if located else None
            here = {one.name: one.version for one in (kiln.packages if kiln else ())}
        needs = reading.read(place).needs_of("glaze")
        judge = Judge(
            language="glaze",
            top=str,
            providers=lambda name: [Provider(name, here[name])] if name in here else [],
            is_standard=lambda name: False,
            own=frozenset(),
            called=str,
            allows=languages.of("glaze").versions.allows,
        )
        by_name = {need.name: DeclaredNeed(need.name, need.text, need.where) for need in needs}
        read = read_all(place.root, self.sources(place.root), _read, cache, "what recipes use")
        return surveyed(read, judged(read, judge, by_name), by_name, ())


def _read(path: Path, file: str) -> FileRead:
    uses = SourceUses.none()
    for number, line in enumerate(path.read_text("utf-8").splitlines(), 1):
        word, _, rest = line.partition(" ")
        if word == "use":
            uses.modules.append(Use(rest, number, "plain"))
        elif word == "call":
            uses.programs.append(Use(rest.split()[0], number, "plain"))
    return FileRead([("", uses)])


class GlazeSearching:
    def works_with(self, package: Package, runtime: Runtime, cache: Cache) -> bool:
        return True

    def needs_between(self, before: Tree, after: Tree, cache: Cache) -> tuple[Mapping[str, set[str]], Sequence[str]]:
        return {}, ()
