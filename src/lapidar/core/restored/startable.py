"""Whether captured programs start from what was captured of them: each once, with nothing of this machine in sight."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping

from lapidar.core import atomic, sealed
from lapidar.core.cache.placing import Placement
from lapidar.core.cache.store import Cache
from lapidar.core.environment import assemblies
from lapidar.core.environment.build import EnvironmentBuilder
from lapidar.core.environment.layout import ToProject
from lapidar.core.environment.marker import WhoseLibraries
from lapidar.core.progress import Progress
from lapidar.core.records import lockfile
from lapidar.core.records.layers import LowerLayers
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.restored import alone
from lapidar.core.restored.building import Building
from lapidar.core.system import starting
from lapidar.core.system.starting import Start

__all__ = ["unable"]


def unable(cache: Cache, snapshot: Snapshot, starts: Mapping[str, Start], reporter: Progress) -> dict[str, str]:
    """The programs that start here and do not start from a snapshot.

    Args:
        snapshot: stowed.
        starts: how each starts here.

    Returns:
        Each with the last line that it said, or how it ended. What could not be tried is not among them.
    """
    starts = {name: start for name, start in starts.items() if start.is_good}
    if not starts or snapshot.library_layer is None:
        return {}
    # What starts them is no package and no runtime.
    bare = lockfile.identified(snapshot.platform, (), (), (), LowerLayers.of(snapshot))
    asked = json.dumps([bare.snapshot, sorted((name, one.word, one.prints) for name, one in starts.items())])
    asked += assemblies.code_state()
    note = cache.short_cuts / f"starts-{hashlib.sha256(asked.encode()).hexdigest()[:32]}"
    if (kept := sealed.read(note)) is not None:
        return dict(json.loads(kept))
    found = _tried(cache, bare, starts, reporter)
    sealed.keep(note, lambda: json.dumps(found).encode())
    return found


def _tried(cache: Cache, bare: Snapshot, starts: Mapping[str, Start], reporter: Progress) -> dict[str, str]:
    found = {}
    with cache.work_folder() as work, atomic.WorkFolder(work.path, "root-") as top:
        environment = work.path / "environment"
        environment.mkdir()
        builder = EnvironmentBuilder(cache, environment, Placement.AUTO, reporter)
        building = Building(bare, builder, ToProject("."), WhoseLibraries.PRIVATE, None)
        builder.finish(building.run(), bare, left_out=(), libraries=WhoseLibraries.PRIVATE, chosen="")
        root, _ = alone.laid_out(top.path, [environment])
        variables = {**alone.VARIABLES, "PATH": f"{environment}/bin:{alone.PATH}"}
        for name, here in starts.items():
            start = starting.start(str(environment / "bin" / name), [here.word], variables, root)
            if start is not None and not (start.is_good and start.prints >= here.prints):
                found[name] = start.said or (f"exit code {start.code}" if start.code else "it prints nothing")
    return found
