"""The recommended packages that come with R: from the runtime of this machine, where no repository has them.

R Installation and Administration, 1.1: binary distributions of R include them, each with ``Priority: recommended``.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

from msgspec import Struct, field

from lapidar.core.cache.stowing import stow
from lapidar.core.errors import EnvironmentUnusable, PackageBroken
from lapidar.core.languages.r import inventory, probe, runtimes
from lapidar.core.languages.r.packages import PackageFound
from lapidar.core.languages.r.pinning.candidates import CachedPackage, Shipped
from lapidar.core.pinning.session import PinRequest

__all__ = ["ShippedPackages"]


class ShippedPackages(Struct, dict=True):
    """Those of an R of this machine that has the version that is pinned for; nothing is looked for before it is asked.

    Attributes:
        version: of R.
    """

    request: PinRequest
    version: str
    _stowed: dict[str, CachedPackage] = field(default_factory=dict)

    def get(self, name: str) -> Shipped | None:
        """A recommended package; None where this machine has none, or no such R."""
        found = self._found.get(name)
        if found is None:
            return None
        return Shipped(name, found.description.version, "", "", description=found.description)

    def stowed(self, name: str) -> CachedPackage:
        """The same in the cache."""
        if name not in self._stowed:
            found = self._found[name]
            done = stow(self.request.cache, {found.owner: found.drafts}, None, self.request.reporter)
            tree = done[found.owner].tree.digest
            self._stowed[name] = CachedPackage(found.description, tree, found.origin, found.built_with)
        return self._stowed[name]

    @cached_property
    def _found(self) -> Mapping[str, PackageFound]:
        try:
            here = next(one for one in runtimes.on_machine() if one.version == self.version)
            answer = probe.ask(here.interpreter, self.request.place.root)
            found = inventory.observe(answer, self.request.place, full_runtime=False).found.packages
        except (StopIteration, EnvironmentUnusable, PackageBroken):
            return {}
        own = f"{answer.own}/"
        return {
            one.name: one
            for one in found
            if one.folder.startswith(own) and one.description.fields.get("Priority") == "recommended"
        }
