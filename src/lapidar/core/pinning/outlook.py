"""What is pinned, what could be, what there is, and who holds it back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from packaging.specifiers import SpecifierSet
from packaging.version import InvalidVersion, Version

from lapidar.core.languages.python.pinning.candidates import Candidates
from lapidar.core.languages.python.pinning.session import Pinning
from lapidar.core.pinning.explain import sentences
from lapidar.core.pinning.solver import Solver, Unsolvable, Wish

__all__ = ["Row", "outlook", "pinned_version", "what_keeps_out"]


@dataclass(frozen=True, slots=True)
class Row:
    """A package's outlook.

    Attributes:
        pinned: its version in the lockfile.
        allowed: the newest that the needs allow together; "" where they do not need it any more.
        newest: the newest that fits the runtime.
        held_by: who keeps it from the newest, a sentence each.
    """

    name: str
    pinned: str
    allowed: str
    newest: str
    held_by: tuple[str, ...]

    @property
    def is_newest(self) -> bool:
        return self.pinned == self.newest


def outlook(pinning: Pinning) -> list[Row]:
    """The outlook of every pinned package.

    Raises:
        Conflict: the declared needs cannot be met together.
        IndexTrouble: an index cannot be used.
    """
    assert pinning.previous is not None
    candidates = pinning.candidates(pinning.policy(keep=False))
    answer = pinning.solve(candidates)
    rows = []
    for package in pinning.previous.package:
        newest = _newest(candidates, package.name)
        allowed = answer.get(package.name)
        held: tuple[str, ...] = ()
        if newest is not None and allowed is not None and allowed < newest:
            held = tuple(_holders(pinning, candidates, answer, package.name, newest))
        rows.append(Row(package.name, package.version, str(allowed or ""), str(newest or ""), held))
    return rows


def _newest(candidates: Candidates, name: str) -> Version | None:
    if name in candidates.policy.settled:
        return candidates.policy.settled[name].version
    return next((release.version for release in candidates.releases(name) if not release.reason), None)


def _holders(
    pinning: Pinning, candidates: Candidates, answer: Mapping[str, Version], name: str, newest: Version
) -> list[str]:
    """Whose range excludes the newest; where nobody's does, why it does not go together with the rest."""
    found = [
        f"you: {wish.text}"
        for wish in [*pinning.roots(), *pinning.limits()]
        if wish.name == name and not wish.allows(newest)
    ]
    for key, version in answer.items():
        whose, _, extra = key.rstrip("]").partition("[")
        for wish in candidates.wishes(whose, version, extra) or ():
            if wish.name == name and not wish.allows(newest):
                found.append(f"{key} {version}: {wish.text}")
    if found:
        return found
    return what_keeps_out(pinning, candidates, Wish(name, (), SpecifierSet(f"=={newest}"), f"{name}=={newest}"))


def what_keeps_out(pinning: Pinning, candidates: Candidates, wish: Wish) -> list[str]:
    """Why a version cannot be had together with what is declared, a sentence each; nothing where it can."""
    roots = [*pinning.roots(), wish]
    try:
        Solver(candidates, roots, pinning.limits()).solve()
    except Unsolvable as error:
        return [text for text in sentences(error.facts, candidates) if not text.startswith(f"you ask for {wish.text}")]
    return []


def pinned_version(pinning: Pinning, name: str) -> Version | None:
    """The version of a package in the lockfile."""
    for package in pinning.previous.package if pinning.previous else ():
        if package.name == name:
            try:
                return Version(package.version)
            except InvalidVersion:
                return None
    return None
