"""Blobs in a registry, by the OCI distribution protocol (distribution-spec 1.1).

Credentials are the user's own (netrc, the usual file of registries), sent to the host that they are for, and never on
by a redirect. What a host says of digests and lengths is not believed: whoever reads a blob reads its digest.
"""

from __future__ import annotations

import base64
import json
import os
import re
import threading
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import IO, NamedTuple
from urllib.parse import quote, urlencode, urljoin, urlsplit

from lapidar.core import foreign
from lapidar.core.errors import LapidarError, StoreTrouble
from lapidar.core.net.http import Answer, Client, login_of
from lapidar.core.parcels.blobs import BlobMissing, index_in, missing, put_referring, referring
from lapidar.core.parcels.downloading import PURPOSE, download, pieces_of
from lapidar.core.parcels.form import (
    INDEX,
    MANIFEST,
    MOST_BYTES,
    Descriptor,
    Index,
    ParcelBroken,
    described,
    digest_of,
    written,
)

__all__ = ["Registry"]

_WHOLE_BYTES = 4 << 20  # up to this size a blob goes up in one request
_CHUNK_BYTES = 16 << 20
_TRIES = 5
_BUSY = (429, 500, 502, 503, 504)
_PAUSE_SECONDS = 0.3
_MOST_PAGES = 200
_NAME = re.compile(r"[a-z0-9]+(?:[._-]+[a-z0-9]+)*(?:/[a-z0-9]+(?:[._-]+[a-z0-9]+)*)*")
_REFERRING = re.compile(r"sha256-[0-9a-f]{64}.*")
_TAG = re.compile(r"[A-Za-z0-9_][A-Za-z0-9._-]{0,127}")
_WHERE = re.compile(r"(?P<scheme>oci|oci\+http)://(?P<host>[^/]+)/(?P<name>.*?)(?::(?P<tag>[^:/]+))?/?")


class Place(NamedTuple):
    """What an address says.

    Attributes:
        tag: "" where it names none.
    """

    base: str
    name: str
    tag: str


def place_of(address: str) -> Place:
    """The parts of ``oci://HOST/NAME[:TAG]`` (``oci+http://``: not encrypted).

    Raises:
        LapidarError: it is none.
    """
    found = _WHERE.fullmatch(address)
    good = found and _NAME.fullmatch(found["name"]) and (not found["tag"] or _TAG.fullmatch(found["tag"]))
    if not found or not good or "@" in found["host"]:
        raise LapidarError(
            f"{address!r} is no address of a store",
            why="a name has small letters, digits and .-_/; a tag letters, digits and .-_; neither has a password",
            remedy="Write oci://HOST/NAME or oci://HOST/NAME:TAG (oci+http:// where it is not encrypted).",
        )
    scheme = "http" if found["scheme"] == "oci+http" else "https"
    return Place(f"{scheme}://{found['host']}", found["name"], found["tag"] or "")


class Registry:
    """One name in a registry.

    Args:
        address: ``oci://HOST/NAME[:TAG]``.
        with_credentials: whether the user's own are for it: not where a project alone names it.
    """

    at_once = True

    def __init__(self, address: str, *, with_credentials: bool = True) -> None:
        self.base, self.name, self.tag = place_of(address)
        self.called = f"the store {address}"
        self._client = Client(PURPOSE, None)
        self._basic = _credentials(self.base) if with_credentials else ""
        self._token = ""
        self._lock = threading.Lock()

    # ---- what is there

    def lacks(self, one: Descriptor) -> bool:
        return False  # it is known when it is asked for

    def has(self, one: Descriptor) -> bool:
        """Whether it has a blob."""
        return self._asked("HEAD", self._url("blobs", one.digest)).status == 200

    def tags(self) -> list[str]:
        """All tags, sorted; none where the name is not known there."""
        return sorted({tag for tag in self._all_tags() if not _REFERRING.fullmatch(tag)})

    def _all_tags(self) -> list[str]:
        found: list[str] = []
        url = f"{self._url('tags', 'list')}?n=1000"
        for _ in range(_MOST_PAGES):
            answer = self._asked("GET", url)
            if answer.status == 404:
                return []
            self._require(answer, url, 200)
            try:
                found += [tag for tag in json.loads(answer.body)["tags"] or [] if _TAG.fullmatch(tag)]
            except (ValueError, KeyError, TypeError, RecursionError) as error:
                raise self._client.unusable(url, "it does not list its tags as the protocol has it") from error
            more = re.match(r"<([^>]+)>", answer.headers.get("link", ""))
            if not more or not self._is_here(following := urljoin(url, more[1])):
                break
            url = following
        return found

    def manifest(self, name: str = "") -> bytes:
        """The text of a manifest, by a tag or a digest.

        Raises:
            BlobMissing: there is none of that name.
            ParcelBroken: it is another than its digest says.
        """
        name = name or self.tag
        if not name:
            tags = self.tags()
            if len(tags) != 1:
                raise BlobMissing(
                    f"{self.called} holds {len(tags) or 'no'} parcels" + (": which is not said" if tags else ""),
                    why=", ".join(tags[:6]),
                    remedy="Name one: lapidar parcel list ADDRESS shows them."
                    if tags
                    else "Send one: lapidar parcel send.",
                )
            name = tags[0]
        url = self._url("manifests", name)
        answer = self._asked("GET", url, {"Accept": f"{MANIFEST}, {INDEX}"})
        if answer.status == 404:
            raise BlobMissing(
                f"{self.called} has no parcel {name}", remedy="lapidar parcel list ADDRESS shows what there is."
            )
        self._require(answer, url, 200)
        if name.startswith("sha256:") and digest_of(answer.body) != name:
            raise ParcelBroken(f"{self.called} gives another manifest than {name}")
        return answer.body

    def attached(self, manifest: bytes, kind: str) -> list[bytes]:
        """What the registry lists as referring to it; where it keeps no list, what the standard's tag has."""
        index = self._referrers(described(manifest, MANIFEST).digest)
        return [data for _, data in referring(self, index, manifest, kind)]

    def _referrers(self, digest: str) -> Index:
        answer = self._asked("GET", self._url("referrers", digest), {"Accept": INDEX})
        if answer.status == 200 and INDEX in answer.headers.get("content-type", ""):
            return index_in(answer.body, self.called)
        try:
            return index_in(self.manifest(_fallback(digest)), self.called)
        except (BlobMissing, ParcelBroken):
            return Index()

    def attach(self, manifest: bytes, kind: str, data: bytes) -> None:
        """Keep something as referring to a manifest."""
        listed, text = put_referring(self, manifest, kind, data)
        url = self._url("manifests", listed.digest)
        answer = self._asked("PUT", url, {"Content-Type": MANIFEST}, text)
        self._require(answer, url, 201)
        if answer.headers.get("oci-subject"):
            return  # it lists what refers to it
        digest = described(manifest, MANIFEST).digest
        there = self._referrers(digest).manifests
        if listed.digest not in {other.digest for other in there}:
            self.put_manifest(written(Index(manifests=(*there, listed))), _fallback(digest), INDEX)

    def forget(self, tags: Sequence[str]) -> int:
        """Delete the manifests; a registry frees what no manifest lists when its keeper has it do so."""
        fallbacks = {tag for tag in self._all_tags() if _REFERRING.fullmatch(tag)}
        for manifest in {self.manifest(tag) for tag in tags}:
            digest = described(manifest, MANIFEST).digest
            for listed in [one for one, _ in referring(self, self._referrers(digest), manifest, "")]:
                self._delete(listed.digest)
            if _fallback(digest) in fallbacks:
                self._delete(described(self.manifest(_fallback(digest)), INDEX).digest)
            self._delete(digest)
        return 0

    def _delete(self, digest: str) -> None:
        url = self._url("manifests", digest)
        answer = self._asked("DELETE", url)
        if answer.status in (400, 405):
            raise StoreTrouble(
                f"{self.called} lets nothing be deleted",
                why=f"it answers with status {answer.status}",
                remedy="Its keeper can allow that, or remove them there.",
            )
        if answer.status != 404:
            self._require(answer, url, 202)

    def open(self, one: Descriptor) -> IO[bytes]:
        return download(self.called, one, self._stream)

    # ---- what comes there

    def put(self, one: Descriptor, stream: IO[bytes]) -> bool:
        """Bring a blob there, unless it is there."""
        if self.has(one):
            return False
        url = self._url("blobs", "uploads/")
        answer = self._begun(url)
        where = self._location(answer, url)
        if one.size <= _WHOLE_BYTES:
            data = stream.read()
        else:
            where, data = self._in_chunks(where, one, stream), b""
        done = f"{where}{'&' if '?' in where else '?'}{urlencode({'digest': one.digest})}"
        headers = {"Content-Type": "application/octet-stream", "Content-Length": str(len(data))}
        answer = self._asked("PUT", done, headers, data)
        if not self.has(one):
            self._require(answer, url, 201)
            raise self._client.unusable(url, f"it has not kept blob {one.digest}")
        return True

    def _begun(self, url: str) -> Answer:
        """Begin to bring something there; one who is busy is asked again."""
        for failed in range(_TRIES):
            answer = self._asked("POST", url, {"Content-Length": "0"})
            if answer.status not in _BUSY:
                break
            time.sleep(_PAUSE_SECONDS * (failed + 1))
        self._require(answer, url, 202)
        return answer

    def _in_chunks(self, where: str, one: Descriptor, stream: IO[bytes]) -> str:
        """Bring a large blob there piece by piece; a piece that is cut is asked after, and gone on with.

        Returns:
            Where it is to be closed.
        """
        at = failed = 0
        while at < one.size:
            stream.seek(at)
            data = stream.read(_CHUNK_BYTES)
            headers = {
                "Content-Type": "application/octet-stream",
                "Content-Range": f"{at}-{at + len(data) - 1}",
                "Content-Length": str(len(data)),
            }
            try:
                answer = self._asked("PATCH", where, headers, data)
                fine = answer.status in (201, 202, 204)
            except StoreTrouble:
                if failed >= _TRIES:
                    raise
                fine = False
            if fine:
                where, at, failed = self._location(answer, where), at + len(data), 0
                continue
            failed += 1
            if failed > _TRIES:
                self._require(answer, where, 202)
            time.sleep(_PAUSE_SECONDS * failed)
            told = self._asked("GET", where)
            self._require(told, where, 204)
            there = re.fullmatch(r"(?:bytes=)?0-(\d+)", told.headers.get("range", ""))
            at = min(int(there[1]) + 1, one.size) if there else 0
            where = self._location(told, where)
        return where

    def put_manifest(self, data: bytes, name: str, media_type: str = MANIFEST) -> None:
        """Keep a manifest under a tag, or under its digest."""
        url = self._url("manifests", name)
        self._require(self._asked("PUT", url, {"Content-Type": media_type}, data), url, 201)

    # ---- asking

    def _url(self, kind: str, rest: str) -> str:
        return f"{self.base}/v2/{self.name}/{kind}/{quote(rest, safe=':/')}"

    def _is_here(self, url: str) -> bool:
        return url.startswith(self.base + "/")

    def _location(self, answer: Answer, url: str) -> str:
        """Where to go on; another host is only followed without credentials, see `headers`."""
        found = urljoin(answer.url or url, answer.headers.get("location", ""))
        allowed = ("https://",) if self.base.startswith("https:") else ("https://", "http://")
        if not found.startswith(allowed):
            raise self._client.unusable(url, "it sends on to an address that is not safe")
        return found

    def headers(self, url: str) -> dict[str, str]:
        """What shows who we are, for the registry's own host alone."""
        if not self._is_here(url):
            return {}
        if self._token:
            return {"Authorization": f"Bearer {self._token}"}
        return {"Authorization": f"Basic {self._basic}"} if self._basic else {}

    def _asked(
        self, method: str, url: str, headers: Mapping[str, str] | None = None, body: bytes | None = None
    ) -> Answer:
        """Ask; where a token is wanted, or has run out, get one and ask again."""
        for _ in range(_TRIES):
            answer = self._client.ask(method, url, {**(headers or {}), **self.headers(url)}, body)
            if answer.status != 401 or not self._is_here(url) or not self.renew(answer.headers):
                break
        if answer.status in (401, 403):
            raise self.refused(url, answer.status)
        return answer

    def refused(self, url: str, status: int) -> LapidarError:
        """The error for a host that does not let us in."""
        what = "asks who you are" if status == 401 else "refuses access"
        return StoreTrouble(
            f"{self.called} {what} (status {status})",
            why=f"{urlsplit(url).path}" + ("" if self._basic else "; no credentials of yours are for this host"),
            remedy=f"Put name and password for {urlsplit(self.base).netloc} into ~/.netrc or ~/.docker/config.json, "
            "readable by you alone.",
        )

    def renew(self, headers: Mapping[str, str]) -> bool:
        """Get a token as a registry says where it is to be had; whether there is one now."""
        told = headers.get("www-authenticate", "")
        if not told.lower().startswith("bearer "):
            return False
        asked = dict(re.findall(r'(\w+)="([^"]*)"', told))
        realm = asked.pop("realm", "")
        if not realm.startswith(("https://", "http://") if self.base.startswith("http:") else "https://"):
            return False
        asked = {name: text for name, text in asked.items() if name in ("service", "scope")}
        asked.setdefault("scope", f"repository:{self.name}:pull,push")
        own = {"Authorization": f"Basic {self._basic}"} if self._basic else {}
        answer = self._client.ask("GET", f"{realm}{'&' if '?' in realm else '?'}{urlencode(asked)}", own)
        try:
            body = json.loads(answer.body) if answer.status == 200 else {}
            token = body.get("token") or body.get("access_token")
        except (ValueError, AttributeError, RecursionError):
            return False
        if not isinstance(token, str) or not token.isprintable():
            return False
        with self._lock:
            self._token = token
        return True

    def _stream(self, stack: ExitStack, one: Descriptor, at: int) -> Iterator[bytes]:
        """The bytes of a blob from a place on.

        Raises:
            BlobMissing: it is not there.
            HTTPError, OSError: the connection is cut.
        """
        url = self._url("blobs", one.digest)
        extra = {"Range": f"bytes={at}-"} if at else {}
        response = stack.enter_context(self._client.stream_any(url, {**extra, **self.headers(url)}))
        if response.status == 401 and self.renew({name.lower(): text for name, text in response.headers.items()}):
            response = stack.enter_context(self._client.stream_any(url, {**extra, **self.headers(url)}))
        if response.status in (401, 403):
            raise self.refused(url, response.status)
        if response.status == 404:
            raise missing(self.called, one)
        if response.status not in (200, 206):
            raise self._client.unusable(url, f"it answers with status {response.status}")
        return pieces_of(response, at)

    def _require(self, answer: Answer, url: str, status: int) -> None:
        if answer.status != status:
            told = answer.body[:200].decode("utf-8", "replace").strip()
            raise self._client.unusable(url, f"it answers with status {answer.status} {told}".strip())


def _fallback(digest: str) -> str:
    """The tag that has what refers to a manifest, where a registry keeps no list of it (distribution-spec 1.1)."""
    return digest.replace(":", "-")


# ---- the user's credentials


def _credentials(base: str) -> str:
    """Name and password for a host, as basic authentication wants them; "" for none: from the usual file of registries
    (containers-auth.json(5)), else from netrc."""
    host = urlsplit(base).netloc
    for path in _files():
        try:
            told = json.loads(foreign.read(path, MOST_BYTES)).get("auths", {})
            found = next((told[key] for key in (host, base, f"{base}/v1/", f"{base}/v2/") if key in told), None)
            if found and base64.b64decode(found["auth"], validate=True):
                return str(found["auth"])
        except (OSError, ValueError, AttributeError, KeyError, TypeError, RecursionError):
            continue
    login = login_of(urlsplit(base).hostname or "")
    return base64.b64encode(":".join(login).encode()).decode() if login else ""


def _files() -> Iterator[Path]:
    named = os.environ.get("REGISTRY_AUTH_FILE")
    if named:
        yield Path(named)
    if runtime := os.environ.get("XDG_RUNTIME_DIR"):
        yield Path(runtime) / "containers" / "auth.json"
    config = Path(os.path.expanduser(os.environ.get("XDG_CONFIG_HOME") or "~/.config"))
    yield config / "containers" / "auth.json"
    yield Path(os.path.expanduser(os.environ.get("DOCKER_CONFIG") or "~/.docker")) / "config.json"
