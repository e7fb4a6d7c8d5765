"""What a parcel is written as: an OCI manifest with types of our own for what it lists (image-spec 1.1).

Nothing here is believed of what others wrote: a type or a version that is not known is refused with its name, and a
list that is longer than any real one before it is read on.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from typing import Annotated

import msgspec
from msgspec.structs import replace

from lapidar.core import decoding
from lapidar.core.errors import LapidarError

__all__ = [
    "EMPTY",
    "EMPTY_BLOB",
    "INDEX",
    "LOCKFILE",
    "MANIFEST",
    "MOST_BYTES",
    "OF_TREE",
    "PARCEL",
    "PROJECT",
    "RECORDS",
    "SNAPSHOT",
    "TITLE",
    "TREE",
    "Descriptor",
    "Index",
    "Manifest",
    "ParcelBroken",
    "described",
    "digest_of",
    "manifest_of",
    "name_of",
    "named",
    "parsed",
    "written",
]

MANIFEST = "application/vnd.oci.image.manifest.v1+json"
INDEX = "application/vnd.oci.image.index.v1+json"
_OURS = "application/vnd.lapidar."
PARCEL = f"{_OURS}parcel.v1"
LOCKFILE = f"{_OURS}lockfile.v1+toml"
RECORDS = f"{_OURS}results.v1+toml"
TREE = f"{_OURS}tree.v1.tar+zstd"
PROJECT = f"{_OURS}project.v1.tar+zstd"
_KNOWN = frozenset({LOCKFILE, RECORDS, TREE, PROJECT})
# Annotations: of a manifest its snapshot, of a tree's layer the tree.
SNAPSHOT, OF_TREE = "lapidar.snapshot", "lapidar.tree"
TITLE = "org.opencontainers.image.title"
_REFERENCE = "org.opencontainers.image.ref.name"

MOST_BYTES = 16_000_000  # of an index or a manifest
_MOST_LAYERS = 50_000
_LISTS = ("layers", "manifests")
_Digest = Annotated[str, msgspec.Meta(pattern=r"^sha256:[0-9a-f]{64}$")]
_Size = Annotated[int, msgspec.Meta(ge=0, le=2**60)]

_REMEDY = "Have it sent again, or made again where it came from. Nothing of it was used."


class ParcelBroken(LapidarError):
    """A parcel is not what it must be; nothing of it was used."""

    def __init__(self, what: str, *, why: str = "", remedy: str = _REMEDY) -> None:
        super().__init__(what, why=why, remedy=remedy)


class Descriptor(msgspec.Struct, frozen=True, omit_defaults=True, rename={"media_type": "mediaType"}):
    """A blob as a manifest names it.

    Attributes:
        digest: ``sha256:...`` of its bytes as they lie there, packed.
        size: in bytes.
    """

    media_type: str
    digest: _Digest
    size: _Size
    annotations: dict[str, str] = {}
    artifact_type: str = msgspec.field(default="", name="artifactType")

    @property
    def tree(self) -> str:
        """The digest of the tree that it is; "" for another blob."""
        return self.annotations.get(OF_TREE, "")

    @property
    def title(self) -> str:
        return self.annotations.get(TITLE, "")


EMPTY_BLOB = b"{}"
EMPTY = Descriptor("application/vnd.oci.empty.v1+json", f"sha256:{hashlib.sha256(EMPTY_BLOB).hexdigest()}", 2)


class Manifest(msgspec.Struct, frozen=True, kw_only=True):
    """A manifest: what a parcel consists of."""

    schema_version: int = msgspec.field(default=2, name="schemaVersion")
    media_type: str = msgspec.field(default=MANIFEST, name="mediaType")
    artifact_type: str = msgspec.field(default=PARCEL, name="artifactType")
    config: Descriptor = EMPTY
    layers: tuple[Descriptor, ...]
    annotations: dict[str, str] = {}
    subject: Descriptor | None = None

    @property
    def snapshot(self) -> str:
        return self.annotations.get(SNAPSHOT, "")

    def of_type(self, media_type: str) -> Descriptor | None:
        """The first blob of a type."""
        return next((one for one in self.layers if one.media_type == media_type), None)

    @property
    def trees(self) -> dict[str, Descriptor]:
        """The blobs of trees, by the digests of these; that of a project is none of them."""
        return {one.tree: one for one in self.layers if one.media_type == TREE}


class Index(msgspec.Struct, frozen=True, kw_only=True):
    """An index: the manifests of a layout, or those that refer to another."""

    schema_version: int = msgspec.field(default=2, name="schemaVersion")
    media_type: str = msgspec.field(default=INDEX, name="mediaType")
    manifests: tuple[Descriptor, ...] = ()


def written(record: Manifest | Index) -> bytes:
    """The one text of a manifest or an index; its list is said also where it is empty."""
    body = msgspec.to_builtins(record)
    return msgspec.json.encode({name: value for name, value in body.items() if value or name in _LISTS})


def digest_of(data: bytes) -> str:
    """What a blob is known by."""
    return f"sha256:{hashlib.sha256(data).hexdigest()}"


def described(data: bytes, media_type: str, title: str = "") -> Descriptor:
    """The descriptor of a blob that is at hand."""
    return Descriptor(media_type, digest_of(data), len(data), {TITLE: title} if title else {})


def named(manifest: Manifest, name: str) -> Descriptor:
    """A manifest as an index lists it.

    Args:
        name: its reference in the layout, as registries have tags.
    """
    annotations = {_REFERENCE: name} | ({SNAPSHOT: manifest.snapshot} if manifest.snapshot else {})
    one = described(written(manifest), MANIFEST)
    # That of an image is what its configuration is, by the standard.
    kind = manifest.artifact_type or manifest.config.media_type
    return replace(one, annotations=annotations, artifact_type=kind)


def name_of(one: Descriptor) -> str:
    """The reference of a manifest in a layout; "" for none."""
    return one.annotations.get(_REFERENCE, "")


def parsed(data: bytes, kind: type[Manifest] | type[Index], called: str) -> Manifest | Index:
    """A manifest or an index that somebody wrote.

    Raises:
        ParcelBroken: it is none.
    """
    try:
        if len(data) > MOST_BYTES:
            raise ValueError(f"it is larger than {MOST_BYTES:,} bytes")
        return decoding.from_json(data, kind)
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        what = "manifest" if kind is Manifest else "index"
        raise ParcelBroken(f"{called} has no {what} that can be read", why=str(error)) from error


def manifest_of(data: bytes, called: str) -> Manifest:
    """The manifest of a parcel.

    Raises:
        ParcelBroken: it is none, or that of something else, or of a version that this lapidar does not know.
    """
    found = parsed(data, Manifest, called)
    assert isinstance(found, Manifest)
    if found.schema_version != 2 or found.media_type != MANIFEST:
        raise ParcelBroken(f"{called} is no OCI manifest of version 2", why=found.media_type)
    _require_known([found.artifact_type], [PARCEL], called)
    _require_known([one.media_type for one in found.layers], _KNOWN, called)
    trees = [one.tree for one in found.layers if one.media_type in (TREE, PROJECT)]
    wrong = (
        f"it lists more than {_MOST_LAYERS:,} blobs"
        if len(found.layers) > _MOST_LAYERS
        else "it does not name its snapshot"
        if not found.snapshot
        else "it does not say which tree a blob is"
        if not all(trees)
        else "it has no lockfile"
        if found.of_type(LOCKFILE) is None
        else ""
    )
    if wrong:
        raise ParcelBroken(f"The manifest of {called} is not that of a parcel", why=wrong)
    return found


def _require_known(types: Sequence[str], known: Sequence[str] | frozenset[str], called: str) -> None:
    for one in types:
        if one in known:
            continue
        ours = one.startswith(_OURS)
        raise ParcelBroken(
            f"{called} has something that this lapidar does not know: {one[:120] or 'a blob without a type'}",
            why="it was written by a newer version" if ours else "it is no parcel, or another program wrote it",
            remedy="Use the lapidar that wrote it, or a newer one." if ours else _REMEDY,
        )
