"""Random changes of real texts: what a reader may be given, and must end with a result or a clear error."""

from __future__ import annotations

import random

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


def spoil(ground: Ground, chance: random.Random) -> str:
    """Change one text and have it read; what was done.

    Raises:
        Broken: it did not end well.
    """
    ground.back()
    path, command = chance.choice(list(ground.texts()))
    sample = b'[project]\nname = "sherds"\ndependencies = ["clay>=1.0; python_version > \'3.9\'"]\n'
    data = changed(path.read_bytes() if path.exists() else sample, chance)
    path.write_bytes(data)
    ground.run(*command)
    return f"{path.name} for {command[0]}"
