"""The layers that every environment has, whatever the language, together."""

from __future__ import annotations

import msgspec

from lapidar.core.records.snapshot import Conditions, Libraries, Library, Snapshot, Tool

__all__ = ["LowerLayers"]


class LowerLayers(msgspec.Struct, frozen=True):
    """The records of system libraries, outside programs and conditions."""

    library_layer: Libraries | None = None
    libraries: tuple[Library, ...] = ()
    tools: tuple[Tool, ...] = ()
    conditions: Conditions | None = None

    @classmethod
    def of(cls, snapshot: Snapshot) -> LowerLayers:
        """Those of a snapshot."""
        return cls(snapshot.library_layer, snapshot.libraries, snapshot.tools, snapshot.conditions)
