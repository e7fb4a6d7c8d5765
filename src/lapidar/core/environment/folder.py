"""An environment as a value: whether Lapidar made it, whose libraries it uses, and where its parts lie; each is looked
up once."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from lapidar.core.environment import marker
from lapidar.core.environment.marker import WhoseLibraries

if TYPE_CHECKING:
    from lapidar.core.environment.manifest import Manifest

__all__ = ["Environment"]

T = TypeVar("T")


class Environment:
    """The environment in a folder, which need not exist.

    Attributes:
        folder: absolute.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    @cached_property
    def marker(self) -> marker.Marker | None:
        """What it says of itself; None where Lapidar did not make it."""
        return marker.read(self.folder)

    @cached_property
    def manifest(self) -> Manifest | None:
        """The list of what was placed; None where there is none, or it was altered."""
        from lapidar.core.environment import manifest

        return manifest.read(self.folder, self.marker) if self.marker else None

    @property
    def is_ours(self) -> bool:
        """Whether Lapidar made it."""
        return self.marker is not None

    @property
    def libraries(self) -> WhoseLibraries:
        """Whose system libraries it runs with."""
        return self.marker.libraries if self.marker else WhoseLibraries.HOST

    @property
    def is_private(self) -> bool:
        """Whether it runs with system libraries of its own."""
        return self.libraries is WhoseLibraries.PRIVATE

    @property
    def private_folder(self) -> Path:
        """What is not for the user's hands: real executables, libraries."""
        return self.folder / marker.PRIVATE

    @property
    def programs(self) -> Path:
        """The folder of its commands."""
        return self.folder / "bin"

    def executable(self, language: str) -> Path | None:
        """The real interpreter of a language; None where Lapidar placed none."""
        name = self.marker.executables.get(language) if self.marker else None
        return self.private_folder / name if name else None

    def kept(self, name: str, kind: type[T]) -> T | None:
        """What a layer keeps in it because no file of it tells; see `lapidar.core.environment.kept`."""
        from lapidar.core.environment import kept

        return kept.read(self.folder, name, kind) if self.is_ours else None
