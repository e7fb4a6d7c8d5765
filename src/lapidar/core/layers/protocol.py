"""What a layer is: it observes an environment, places what was recorded of it, and judges what it meets elsewhere.

The layers here are what every environment has, whatever the language. Runtime and packages are observed and placed by
their language, and judged by the comparison of what was placed with what lies there.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, Protocol

from msgspec import Struct, field

from lapidar.core.environment.folder import Environment
from lapidar.core.languages.protocol import ObjectFile
from lapidar.core.layers.named import NONE, Named
from lapidar.core.records.findings import Finding
from lapidar.core.records.layers import LowerLayers

if TYPE_CHECKING:
    from lapidar.core.cache.store import Cache
    from lapidar.core.cache.stowing import Draft
    from lapidar.core.environment.layout import Layout, Placing
    from lapidar.core.records.declaration import Declaration
    from lapidar.core.records.owner import Owner
    from lapidar.core.records.snapshot import Snapshot
    from lapidar.core.system.host import HostDrift
    from lapidar.core.system.memory import ElfMemory

__all__ = ["HeldLibraries", "Judged", "Judgement", "Layer", "LayerFound", "Request", "Subject"]


class Request(NamedTuple):
    """A library that is asked for by its name: by whom."""

    user: Owner
    name: str


class HeldLibraries(NamedTuple):
    """The libraries of an earlier snapshot, which are found before those of this machine.

    Attributes:
        folder: where they lie under their names: the private folder of a restored environment, or one of links into
            the cache.
        records: what the snapshot says of them, by their names.
        left: those that were not taken then.
    """

    folder: Path
    records: Mapping[str, HeldLibrary]
    left: tuple[str, ...] = ()


class HeldLibrary(NamedTuple):
    """What is kept of a library beside its bytes: its digest, whose it is, and who uses it."""

    sha256: str
    owner: str | None
    owner_version: str | None
    used_by: tuple[str, ...]


class Subject(Struct, frozen=True):
    """What the layers are observed of: an environment as it lies on the disk, or the parts of one in the cache.

    Attributes:
        environment: the environment; its own commands are no outside programs. None for parts in the cache.
        program: the compiled executable of a runtime, and whose it is; None where no runtime has one.
        objects: all files that may need libraries.
        declaration: what the project declares.
        held: the records of an earlier snapshot, where the environment was restored from one or is pinned anew.
        held_libraries: its libraries.
        programs_of: by language, the compiled executable of its runtime.
        library_folders: further folders that launchers have libraries looked for in, by language ("" for all of them),
            each with its place below a restored environment ("" for the system's).
        programs: outside programs that the project's source or an observed run starts.
        requests: libraries that are asked for by name.
        data: what else libraries are to find, as files of their tree.
        opened_by: what programs were seen to open, by the real paths of what was started.
        fonts: font files that a run was seen to open.
        named: data of the machine that the project's source names.
        renewed: outside programs of the earlier snapshot that are taken anew, by their paths here.
        starts: whether outside programs are started once, to see what they use for that.
        unable: programs that are to be left out: they do not start from what can be taken of them; why.
        library_path: LD_LIBRARY_PATH.
    """

    environment: Environment | None
    program: ObjectFile | None
    objects: Sequence[ObjectFile]
    declaration: Declaration
    memory: ElfMemory
    held: LowerLayers = field(default_factory=LowerLayers)
    held_libraries: HeldLibraries | None = None
    programs_of: Mapping[str, str] = field(default_factory=dict)
    library_folders: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    programs: Sequence[str] = ()
    requests: Sequence[Request] = ()
    data: Sequence[Draft] = ()
    opened_by: Mapping[str, Sequence[str]] = field(default_factory=dict)
    fonts: Sequence[str] = ()
    named: Named = NONE
    renewed: Sequence[str] = ()
    starts: bool = True
    unable: Mapping[str, str] = field(default_factory=dict)
    library_path: Sequence[str] = ()


class Judged(Struct, frozen=True):
    """What a snapshot's layers are judged against.

    Attributes:
        environment: the restored environment.
        cache: has the trees.
    """

    environment: Environment
    cache: Cache


class Judgement(Struct, frozen=True):
    """What a layer has to say.

    Attributes:
        remarks: what changes nothing and is worth knowing, a sentence each.
        drift: how the host's libraries differ from the recorded ones.
    """

    findings: tuple[Finding, ...] = ()
    remarks: tuple[str, ...] = ()
    drift: HostDrift | None = None


class LayerFound(Protocol):
    """A layer as found.

    Attributes:
        warnings: what the user should know, a sentence each.
    """

    @property
    def warnings(self) -> Sequence[str]: ...

    def drafts(self) -> Mapping[Owner, Sequence[Draft]]:
        """The files of each of its trees."""

    def objects(self) -> Iterator[ObjectFile]:
        """Its files that may need libraries."""


class Layer(Protocol):
    """A module of this folder."""

    def observe(self, subject: Subject) -> LayerFound:
        """Find it. No file of the environment is run."""

    def place(self, snapshot: Snapshot, layout: Layout, at: Placing) -> None:
        """Add what a restored environment has of it."""

    def judge(self, snapshot: Snapshot, at: Judged) -> Judgement:
        """What of the snapshot does not hold in this environment, or on this host."""
