"""Which of many versions a range allows, as bits, without comparing it with each.

Version specifiers specification. Versions in their order stand below or above a bound all together; only those of the
bound's own release (its pre-, post- and local versions) are special, and are compared one by one.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Sequence

from packaging.specifiers import Specifier, SpecifierSet
from packaging.version import InvalidVersion, Version

__all__ = ["VersionBits"]

_Release = tuple[int, tuple[int, ...]]


class VersionBits:
    """The versions of a package.

    Args:
        versions: in any order; the one at index `at` has the bit ``1 << (at + 1)``.
    """

    def __init__(self, versions: Sequence[Version]) -> None:
        self.versions = versions
        ascending = sorted(range(len(versions)), key=lambda at: versions[at])
        self._sorted = [versions[at] for at in ascending]
        self._below = [0]  # of the first so many in ascending order, the bits
        for at in ascending:
            self._below.append(self._below[-1] | 2 << at)
        self._of_release: dict[_Release, list[int]] = {}
        for at, version in enumerate(versions):
            self._of_release.setdefault(_release(version), []).append(at)
        self._known: dict[str, int] = {}

    def allowed(self, ranges: SpecifierSet) -> int:
        """The bits of the versions in a range, pre-releases among them."""
        found = self._below[-1]
        for one in ranges:
            found &= self._of(one)
        return found

    def _of(self, one: Specifier) -> int:
        text = str(one)
        if text not in self._known:
            self._known[text] = self._compared(one)
        return self._known[text]

    def _compared(self, one: Specifier) -> int:
        try:
            bound = Version(one.version)
        except InvalidVersion:  # a wildcard, or what "===" names
            return self._each(one, range(len(self.versions)))
        everything = self._below[-1]
        if one.operator in (">=", ">"):
            found = everything & ~self._below[bisect_left(self._sorted, bound)]
        elif one.operator in ("<", "<="):
            found = self._below[bisect_right(self._sorted, bound)]
        elif one.operator == "==":
            found = 0
        elif one.operator == "!=":
            found = everything
        else:
            return self._each(one, range(len(self.versions)))
        special = self._of_release.get(_release(bound), [])
        for at in special:
            found &= ~(2 << at)
        return found | self._each(one, special)

    def _each(self, one: Specifier, places: Sequence[int]) -> int:
        found = 0
        for at in places:
            if one.contains(self.versions[at], prereleases=True):
                found |= 2 << at
        return found


def _release(version: Version) -> _Release:
    """The release of a version, however many zeros it ends in."""
    numbers = list(version.release)
    while numbers and not numbers[-1]:
        numbers.pop()
    return version.epoch, tuple(numbers)
