"""Publish: archives of one's own package are brought to an index."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec import Struct

from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.python.index.indexes import Indexes
from lapidar.core.languages.python.index.uploading import Archive, notes_on, opened, require_new, upload
from lapidar.core.place import Place
from lapidar.core.progress import Progress, task
from lapidar.core.records.declaration import Index

__all__ = ["Published", "publish"]


class Published(Struct, frozen=True):
    """What came of it.

    Attributes:
        sent: what was brought there; there_already: what lay there, the same bytes.
        notes: what people would miss in it, a sentence each.
    """

    sent: tuple[Archive, ...]
    there_already: tuple[Archive, ...]
    notes: tuple[str, ...] = ()


def publish(
    place: Place,
    cache: Cache,
    paths: Sequence[Path],
    index_name: str,
    agrees: Callable[[Sequence[Archive], Sequence[str], Index], bool],
    reporter: Progress,
) -> Published:
    """Check archives, and bring those that are not there to an index.

    Args:
        paths: of the archives.
        index_name: of an index that the project or the user names.
        agrees: is shown what would be sent, what is to be known of it, and whereto.

    Raises:
        DeclarationError: there is no such index, or it takes no uploads; or it has another file of a name.
        PackageBroken: something is no archive.
        IndexTrouble: one was refused, in the server's words; those before it are there.
    """
    index = _index(place, index_name)
    archives = [opened(path) for path in paths]
    notes = tuple(sentence for one in archives for sentence in notes_on(one))
    with Indexes([Index(index.name, index.address)], cache) as indexes:
        there = {name: indexes.files(name) for name in {one.name for one in archives}}
    new = [one for one in archives if require_new(one, there[one.name])]
    old = tuple(one for one in archives if one not in new)
    if not new or not agrees(new, notes, index):
        return Published((), old, notes)
    with task(reporter, f"Sending to {index.name}", sum(one.path.stat().st_size for one in new), "bytes"):
        for one in new:
            upload(one, index.upload)
            reporter.advance(one.path.stat().st_size)
    return Published(tuple(new), old, notes)


def _index(place: Place, name: str) -> Index:
    known = reading.read(place).indexes
    found = next((one for one in known if one.name == name), None)
    if found is None:
        raise DeclarationError(
            f"No index {name} is configured",
            remedy=f"There are: {', '.join(one.name for one in known if one.name) or 'none'}; [index] in lapidar.toml.",
        )
    if not found.upload:
        raise DeclarationError(
            f"The index {name} takes no uploads, as far as is said",
            remedy=f'Write {name} = {{ address = "{found.address}", upload = "https://packages.example/upload/" }}.',
        )
    return found
