"""Glaze, a language that nobody has: its interpreter is a shell script, its packages are folders with one manifest.

The environment of a project lies in its folder ``kiln``: the interpreter in ``bin/glaze`` says its version in its
second line, and ``lib/glaze/NAME/`` is a package, with its name, version and needs in ``manifest.json``.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from lapidar.core.languages.basic import BasicCapturing, BasicChecking, BasicLanguage, BasicLayingOut
from lapidar.core.languages.protocol import (
    Declaring,
    Inventory,
    Language,
    Located,
    ObserveOptions,
    Pinning,
    Searching,
    Stray,
    Surveying,
    Variables,
)

if TYPE_CHECKING:
    from lapidar.core.environment.layout import Layout, Placing
    from lapidar.core.place import Place
    from lapidar.core.records.snapshot import LanguageParts, Runtime

PACKAGES = "lib/glaze/"


class Capturing(BasicCapturing):
    title = "Glaze"

    def locate(self, place: Place, named: Path | None) -> Located | None:
        folder = Path(os.path.abspath(named)) if named else place.root / "kiln"
        interpreter = folder / "bin" / "glaze"
        if not interpreter.is_file():
            return None
        return Located("glaze", interpreter, "named on the command line" if named else "the project's own kiln")

    def observe(self, located: Located, place: Place, options: ObserveOptions) -> Inventory:
        from toy import inventory

        return inventory.observe(located.interpreter.parent.parent)


class LayingOut(BasicLayingOut):
    def lay_out(self, parts: LanguageParts, into: Layout, at: Placing) -> None:
        from toy import inventory

        inventory.lay_out(parts, into, at)


class Checking(BasicChecking):
    def strays(self, runtime: Runtime, extra: Iterable[str]) -> Iterator[Stray]:
        for path in extra:
            if path.startswith(PACKAGES) and path.endswith("/manifest.json"):
                yield Stray(path.split("/")[2], "")


class Glaze(BasicLanguage):
    """See `Language`. Every command loads this module, so that all else is loaded where it is used."""

    name = "glaze"
    title = "Glaze"
    source_suffixes = (".glz",)
    variables = Variables(watched=("GLAZE_SEED",), hidden=("GLAZE_PACKAGES",))
    capturing = Capturing()
    laying_out = LayingOut()
    checking = Checking()
    declaration_files = ("glaze.toml",)

    @property
    def declaring(self) -> Declaring:
        from toy.workshop import GlazeDeclaring

        return GlazeDeclaring()

    @property
    def surveying(self) -> Surveying:
        from toy.workshop import GlazeSurveying

        return GlazeSurveying()

    @property
    def pinning(self) -> Pinning:
        from toy import shelf

        return shelf

    @property
    def searching(self) -> Searching:
        from toy.workshop import GlazeSearching

        return GlazeSearching()


LANGUAGE: Language = Glaze()
