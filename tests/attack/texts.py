"""Random changes of real texts: what a reader may be given, and must end with a result or a clear error."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path

from attack.ground import Ground

__all__ = ["changed", "spoil"]

_ODD = (b"\0", b"[", b"{", b'"', b"\n[[package]]\n", b"9" * 400, b"\xff", b"../", b"=", b"-" * 3000, b"\x1b[31m")


def changed(data: bytes, chance: random.Random) -> bytes:
    """Some bytes changed, cut out, doubled, or put in from elsewhere."""
    text = bytearray(data)
    for _ in range(chance.randint(1, 6)):
        at, to = sorted(chance.randrange(len(text) + 1) for _ in range(2))
        piece = bytes(text[at : min(to, at + 40)])
        kind = chance.randrange(4)
        if kind == 0 and at < len(text):
            text[at] = chance.randrange(256)
        elif kind == 1:
            del text[at : at + len(piece)]
        elif kind == 2:
            text[at:at] = piece * chance.randint(1, 50)
        else:
            text[at:at] = chance.choice(_ODD)
    return bytes(text)


def _texts(ground: Ground) -> Iterator[tuple[Path, tuple[str, ...]]]:
    """Texts that the program reads, each with a command that does."""
    environment = ground.project / ".lapidar" / "env"
    yield ground.project / "lapidar.lock", ("check",)
    yield ground.project / "lapidar.toml", ("need", "--dry-run", "clay")
    yield ground.project / "pyproject.toml", ("survey",)
    yield ground.project / "requirements.txt", ("start", "--yes")
    yield ground.project / ".lapidar" / "project.toml", ("capture",)
    yield environment / "lapidar.toml", ("check",)
    yield environment / "lib" / "lapidar" / "placed.json", ("restore",)
    yield ground.cache / "lapidar-cache.toml", ("cache", "summary")
    yield ground.cache / "snapshots" / "log.jsonl", ("cache", "prune", "--dry-run")


def spoil(ground: Ground, chance: random.Random) -> str:
    """Change one text and have it read; what was done.

    Raises:
        Broken: it did not end well.
    """
    ground.back()
    path, command = chance.choice(list(_texts(ground)))
    sample = b'[project]\nname = "sherds"\ndependencies = ["clay>=1.0; python_version > \'3.9\'"]\n'
    data = changed(path.read_bytes() if path.exists() else sample, chance)
    path.write_bytes(data)
    ground.run(*command)
    return f"{path.name} for {command[0]}"
