"""Where parcels are kept, by an address: a folder, a folder that any web server serves, a registry."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import IO

from lapidar.core import foreign
from lapidar.core.errors import LapidarError
from lapidar.core.net.http import Client
from lapidar.core.parcels.blobs import (
    INDEX_NAME,
    LAYOUT_NAME,
    Blobs,
    InFolder,
    OfIndex,
    WritableBlobs,
    blob_name,
    index_in,
    missing,
)
from lapidar.core.parcels.downloading import PURPOSE, download, pieces_of
from lapidar.core.parcels.form import Descriptor, Index
from lapidar.core.parcels.registry import Registry

__all__ = ["Served", "is_host", "place_at", "writable_at"]


class Served(OfIndex):
    """The layout in a folder that a web server serves; it is only read.

    Args:
        address: of the folder.
        with_credentials: whether the user's own are for it.
    """

    def __init__(self, address: str, *, with_credentials: bool = True) -> None:
        self.address = address.rstrip("/")
        self.called = f"the store {self.address}"
        self._client = Client(PURPOSE, None, [self.address] if with_credentials else ())

    def open(self, one: Descriptor) -> IO[bytes]:
        return download(self.called, one, self._pieces)

    def _pieces(self, stack: ExitStack, one: Descriptor, at: int) -> Iterator[bytes]:
        url = f"{self.address}/{blob_name(one.digest)}"
        response = stack.enter_context(self._client.stream(url, {"Range": f"bytes={at}-"} if at else {}))
        if response.status in (404, 410):
            raise missing(self.called, one)
        return pieces_of(response, at)

    def _index(self) -> Index:
        answer = self._client.get(f"{self.address}/{INDEX_NAME}")
        return index_in(answer.body, self.called) if answer.status == 200 else Index()


def is_host(address: str) -> bool:
    """Whether an address is one of a host that would have to be asked."""
    return "://" in address


def place_at(address: str, *, with_credentials: bool = True) -> tuple[Blobs, str]:
    """What lies at an address, and the tag that it names; "" where it names none.

    Args:
        with_credentials: whether the user's own are for it: not where a project alone names it.

    Raises:
        LapidarError: it is no address.
    """
    if address.startswith(("oci://", "oci+http://")):
        registry = Registry(address, with_credentials=with_credentials)
        return registry, registry.tag
    if address.startswith(("https://", "http://")):
        return Served(address, with_credentials=with_credentials), ""
    if is_host(address):
        raise LapidarError(
            f"{address!r} is no address of a store",
            remedy="Name a folder, https://HOST/FOLDER, or oci://HOST/NAME[:TAG] (oci+http://: not encrypted).",
        )
    return InFolder(foreign.expanded(address)), ""


def writable_at(address: str, *, with_credentials: bool = True) -> tuple[WritableBlobs, str]:
    """What can be sent to at an address, and the tag that it names; see `place_at`.

    Raises:
        LapidarError: it is none, or is only read.
    """
    found, tag = place_at(address, with_credentials=with_credentials)
    if isinstance(found, Served):
        raise LapidarError(
            f"What a web server serves at {address} is only read",
            remedy="Send to the folder that it serves, or to a registry (oci://HOST/NAME).",
        )
    assert isinstance(found, InFolder | Registry)
    if isinstance(found, InFolder):
        _require_layout(found.path)
    return found, tag


def _holds_something_else(folder: Path) -> bool:
    """Whether it is no layout; one that somebody else is just beginning has its blobs first."""
    names = os.listdir(folder)
    others = [name for name in names if name != "blobs" and not name.startswith((".coming-", ".lock"))]
    return bool(others) and not (folder / LAYOUT_NAME).exists()


def _require_layout(folder: Path) -> None:
    if folder.exists() and (not folder.is_dir() or _holds_something_else(folder)):
        raise LapidarError(
            f"{folder} is not empty, and no store", remedy="Name a folder of its own. Nothing was written there."
        )
    folder.mkdir(parents=True, exist_ok=True)
