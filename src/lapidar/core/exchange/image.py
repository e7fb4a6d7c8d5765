"""A runnable image, as the OCI image-spec (1.1) has it: its layers, what is run in it, its manifest."""

from __future__ import annotations

import datetime
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

import msgspec
from msgspec import Struct

from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.files import FILE_TIME_SECONDS
from lapidar.core.parcels import tar
from lapidar.core.parcels.form import SNAPSHOT, TITLE, Descriptor, Manifest, described
from lapidar.core.parcels.packing import Packed

__all__ = ["Layer", "Runs", "layer", "manifest"]

_LAYER = "application/vnd.oci.image.layer.v1.tar+gzip"  # not every reader has zstd
_CONFIG = "application/vnd.oci.image.config.v1+json"
_ARCHITECTURES = {"x86_64": "amd64", "aarch64": "arm64"}


class Layer(Struct, frozen=True):
    """A layer that was written.

    Attributes:
        file: where it lies, packed.
        unpacked: ``sha256:...`` of its tar.
        what: what is in it, for people.
    """

    blob: Descriptor
    file: Path
    unpacked: str
    what: str


class Runs(Struct, frozen=True):
    """What is run in an image.

    Attributes:
        entry: what the command is given to.
        command: unless another one is named.
        folder: where.
        variables: all that there are.
    """

    entry: Sequence[str]
    command: Sequence[str]
    folder: str
    variables: Mapping[str, str]


@contextmanager
def layer(file: Path, what: str, made: list[Layer]) -> Iterator[tar.Writer]:
    """Write a layer.

    Args:
        file: where it is to lie.
        what: what is in it, for people.
        made: it is put there when it is written.
    """
    with file.open("wb") as out, tar.packed(out) as packed:
        unpacked = Packed(packed)
        archive = tar.Writer(unpacked)
        yield archive
        archive.end()
    blob = Descriptor(_LAYER, f"sha256:{sha256_of(str(file))}", file.stat().st_size)
    made.append(Layer(blob, file, unpacked.digest, what))


def manifest(
    layers: Sequence[Layer], runs: Runs, name: str, snapshot: str, machine: str
) -> tuple[Manifest, bytes, Descriptor]:
    """The manifest of an image.

    Args:
        name: what the project is called.
        snapshot: its identity.
        machine: the kind of processor: ``x86_64``.

    Returns:
        It, and the blob of what is run in it, with what that is known by. The same for the same image always.
    """
    made = datetime.datetime.fromtimestamp(FILE_TIME_SECONDS, datetime.UTC).isoformat().replace("+00:00", "Z")
    told = {SNAPSHOT: snapshot, TITLE: name}
    config = {
        "created": made,
        "architecture": _ARCHITECTURES.get(machine, machine),
        "os": "linux",
        "config": {
            "Env": [f"{variable}={text}" for variable, text in sorted(runs.variables.items())],
            "Entrypoint": list(runs.entry),
            "Cmd": list(runs.command),
            "WorkingDir": runs.folder,
            "Labels": told,
        },
        "rootfs": {"type": "layers", "diff_ids": [one.unpacked for one in layers]},
        "history": [{"created": made, "created_by": "lapidar export image", "comment": one.what} for one in layers],
    }
    data = msgspec.json.encode(config)
    blob = described(data, _CONFIG)
    return (
        Manifest(artifact_type="", config=blob, layers=tuple(one.blob for one in layers), annotations=told),
        data,
        blob,
    )
