"""Whose a thing is: the layer of an environment that it belongs to, and what of that layer.

Everything that has files, needs a library or can drift is called by such a value; how it is called for people is a
matter of `lapidar.core.records.words`.
"""

from __future__ import annotations

import enum
from typing import NamedTuple

import msgspec

__all__ = ["LAPIDAR", "LIBRARIES", "OBSERVED_RUN", "PROJECT", "Layer", "Owner", "PackageName"]


class Layer(enum.StrEnum):
    """What an environment is made of, and what it is compared with."""

    RUNTIME = "runtime"
    PACKAGES = "packages"
    REMAINDER = "remainder"  # files in the packages' folders that belong to no package
    LIBRARIES = "libraries"
    TOOLS = "tools"
    CONDITIONS = "conditions"
    ENVIRONMENT = "environment"  # what is written for one environment and is no part of its snapshot
    PROJECT = "project"  # the project's own source
    RUN = "run"  # a run that was observed
    RESULTS = "results"  # what was recorded of runs
    DECLARATION = "declaration"
    HOST = "host"
    CACHE = "cache"


class PackageName(NamedTuple):
    """What a package is known by: two languages may each have one of the same name.

    Attributes:
        name: as its language normalises names.
    """

    language: str
    name: str


class Owner(msgspec.Struct, frozen=True, order=True, omit_defaults=True):
    """One runtime, package, outside program ...

    Attributes:
        language: of a runtime, a package, a remainder; "" elsewhere.
        name, version: of a runtime its implementation and version; "" where the layer has but one owner.
    """

    layer: Layer
    language: str = ""
    name: str = ""
    version: str = ""

    @property
    def user(self) -> str:
        """How a lockfile writes who uses a library: ``runtime/LANGUAGE``,
        ``packages/LANGUAGE/NAME``, ``tools/NAME``, ``project``. Without the version, which stands elsewhere in it."""
        name = "" if self.layer is Layer.RUNTIME else self.name
        return "/".join(part for part in (str(self.layer), self.language, name) if part)

    @classmethod
    def of_user(cls, text: str) -> Owner:
        """The owner that a lockfile's `user` stands for, without its version.

        Raises:
            ValueError: it is none.
        """
        layer, _, rest = text.partition("/")
        found = Layer(layer)
        if found is Layer.TOOLS:
            return cls(found, name=rest)
        language, _, name = rest.partition("/")
        return cls(found, language, name)


LIBRARIES = Owner(Layer.LIBRARIES)
LAPIDAR = Owner(Layer.ENVIRONMENT)
PROJECT = Owner(Layer.PROJECT)
OBSERVED_RUN = Owner(Layer.RUN)
