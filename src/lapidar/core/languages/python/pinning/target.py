"""What is resolved for: a runtime and a platform, as markers and tags. It follows from the lockfile's records alone,
so that an environment can be pinned where its interpreter is not."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cached_property

from msgspec import Struct, field
from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.tags import compatible_tags, cpython_tags
from packaging.version import Version

from lapidar.core.records.snapshot import Platform, Runtime

__all__ = ["Target"]

_OLD_NAMES = {(2, 17): "manylinux2014", (2, 12): "manylinux2010", (2, 5): "manylinux1"}


def _range(text: str) -> SpecifierSet | None:
    try:
        return SpecifierSet(text)
    except InvalidSpecifier:
        return None


class Target(Struct, frozen=True, eq=False, dict=True):
    """A runtime on a platform."""

    runtime: Runtime
    platform: Platform
    _fits: dict[str, bool] = field(default_factory=dict)
    _ranks: dict[tuple[str, str, str], int | None] = field(default_factory=dict)

    @property
    def python(self) -> Version:
        return Version(self.runtime.version)

    @cached_property
    def markers(self) -> dict[str, str]:
        """The environment markers (Dependency specifiers specification). What changes with each kernel
        (platform_release, platform_version) is empty: a lockfile must not depend on it."""
        short = ".".join(self.runtime.version.split(".")[:2])
        return {
            "implementation_name": self.runtime.implementation,
            "implementation_version": self.runtime.version,
            "os_name": "posix",
            "platform_machine": self.platform.machine,
            "platform_python_implementation": "CPython",
            "platform_release": "",
            "platform_system": self.platform.system.capitalize(),
            "platform_version": "",
            "python_full_version": self.runtime.version,
            "python_version": short,
            "sys_platform": self.platform.system,
        }

    @cached_property
    def tags(self) -> dict[str, int]:
        """The tags of wheels that fit (Platform compatibility tags specification), each with its rank, 0 the best."""
        major, minor = self.python.release[:2]
        platforms = list(self._platforms())
        interpreter = f"cp{major}{minor}"
        found = [str(tag) for tag in cpython_tags((major, minor), [interpreter], platforms)]
        found += [str(tag) for tag in compatible_tags((major, minor), interpreter, platforms)]
        return {tag: rank for rank, tag in reversed(list(enumerate(found)))}

    def _platforms(self) -> Iterator[str]:
        """Platform tags, the best first: made for this very system, then the newest that the C library allows."""
        machine = self.platform.machine
        yield f"linux_{machine}"
        told = re.fullmatch(r"glibc (\d+)\.(\d+)", self.platform.libc)
        if told and told[1] == "2":
            oldest = 5 if machine in ("x86_64", "i686") else 17
            for minor in range(int(told[2]), oldest - 1, -1):
                yield f"manylinux_2_{minor}_{machine}"
                if (2, minor) in _OLD_NAMES:
                    yield f"{_OLD_NAMES[(2, minor)]}_{machine}"

    def rank(self, wheel_name: str) -> int | None:
        """How well a wheel fits by its name, 0 the best; None where it does not."""
        parts = wheel_name.removesuffix(".whl").split("-")
        if len(parts) < 5:
            return None
        tags = (parts[-3], parts[-2], parts[-1])
        if tags not in self._ranks:
            # Compressed tags stand for every combination. Taken apart by hand: pages have thousands of names.
            ranks = [
                rank
                for python in tags[0].split(".")
                for abi in tags[1].split(".")
                for platform in tags[2].split(".")
                if (rank := self.tags.get(f"{python}-{abi}-{platform}")) is not None
            ]
            self._ranks[tags] = min(ranks, default=None)
        return self._ranks[tags]

    def fits_python(self, requires_python: str) -> bool:
        """Whether the runtime is in a range. One that cannot be read excludes nothing, as the standard has it."""
        found = self._fits.get(requires_python)
        if found is None:
            asked = _range(requires_python) if requires_python else None
            found = self._fits[requires_python] = asked is None or asked.contains(self.python, prereleases=True)
        return found

    def __str__(self) -> str:
        return f"CPython {self.runtime.version} on {self.platform.system} {self.platform.machine}"
