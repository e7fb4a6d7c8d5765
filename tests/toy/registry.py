"""A small registry by the OCI distribution protocol, in memory, that fails in any way one likes."""

from __future__ import annotations

import base64
import hashlib
import http.server
import itertools
import json
import re
import threading
import urllib.parse
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from toy import loopback
from toy.loopback import answering

Fault = Callable[["Answers"], bool]
"""Is asked before each request; true where it has answered itself."""


class Registry:
    """What it holds, and how it answers.

    Attributes:
        fault: see `Fault`; None answers rightly.
        asked: method and path of each request.
        credentials: the values of the header of each.
        password: "name:password" that basic authentication, or a token, wants.
        by_token: whether a token is to be fetched first; `token_good_for` requests it holds.
        keeps_referrers: whether it knows the interface for these.
        keeps_all: whether it lets nothing be deleted.
    """

    def __init__(self) -> None:
        self.blobs: dict[str, bytes] = {}
        self.manifests: dict[str, bytes] = {}
        self.tags: dict[str, str] = {}
        self.uploads: dict[str, bytes] = {}
        self.numbers = itertools.count()  # of uploads; none is given to two that run at once
        self.asked: list[tuple[str, str]] = []
        self.credentials: list[str] = []
        self.fault: Fault | None = None
        self.password = ""
        self.by_token = False
        self.token_good_for = 10**9
        self.tokens = 0
        self.keeps_referrers = True
        self.keeps_all = False
        self.lock = threading.Lock()

    def count(self, method: str, part: str = "") -> int:
        return sum(one == method and part in path for one, path in self.asked)


class Answers(http.server.BaseHTTPRequestHandler):
    """One request."""

    protocol_version = "HTTP/1.1"
    registry: Registry

    def log_message(self, *words: object) -> None: ...

    def say(self, status: int, body: bytes = b"", **headers: str) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        if "Content_Length" not in headers:
            self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    def body(self) -> bytes:
        return self.rfile.read(int(self.headers.get("Content-Length") or 0))

    def _answer(self) -> None:
        registry = self.registry
        with registry.lock:
            registry.asked.append((self.command, self.path))
            registry.credentials.append(self.headers.get("Authorization", ""))
        if registry.fault and registry.fault(self):
            return
        if not self._may():
            return
        found = re.fullmatch(r"/v2/(.+?)/(blobs/uploads|blobs|manifests|tags|referrers)/?([^?]*)(?:\?(.*))?", self.path)
        if not found:
            self.say(404)
            return
        _, kind, rest, query = found.groups()
        asked = dict(urllib.parse.parse_qsl(query or ""))
        {
            "blobs/uploads": self._uploads, "blobs": self._blobs, "manifests": self._manifests,
            "tags": self._tags, "referrers": self._referrers,
        }[kind](urllib.parse.unquote(rest), asked)  # fmt: skip

    do_GET = do_HEAD = do_PUT = do_POST = do_PATCH = do_DELETE = _answer

    def _may(self) -> bool:
        registry, shown = self.registry, self.headers.get("Authorization", "")
        basic = "Basic " + base64.b64encode(registry.password.encode()).decode()
        host = f"http://{self.headers['Host']}"
        if self.path.startswith("/token"):
            if shown == basic:
                registry.tokens += 1
                self.say(200, json.dumps({"token": f"token-{registry.tokens}"}).encode())
            else:
                self.say(401)
            return False
        if not registry.password:
            return True
        if not registry.by_token:
            if shown == basic:
                return True
            self.body()
            self.say(401, WWW_Authenticate='Basic realm="kilns"')
            return False
        with registry.lock:
            if shown.startswith("Bearer token-") and registry.token_good_for > 0:
                registry.token_good_for -= 1
                return True
            registry.token_good_for = max(registry.token_good_for, 8)
        self.body()
        self.say(
            401, WWW_Authenticate=f'Bearer realm="{host}/token",service="kilns",scope="repository:kilns:pull,push"'
        )
        return False

    def _uploads(self, rest: str, asked: dict[str, str]) -> None:
        uploads, data = self.registry.uploads, self.body()
        if self.command == "POST":
            rest = f"u{next(self.registry.numbers)}"
            uploads[rest] = b""
        elif rest not in uploads:
            self.say(404)
            return
        if self.command == "PATCH":
            told = self.headers.get("Content-Range", "")
            if told and int(told.split("-")[0]) != len(uploads[rest]):
                self.say(416, Range=f"0-{max(0, len(uploads[rest]) - 1)}", Location=f"/v2/kilns/blobs/uploads/{rest}")
                return
        if self.command in ("PATCH", "PUT"):
            uploads[rest] += data
        if self.command == "PUT":
            digest = "sha256:" + hashlib.sha256(uploads[rest]).hexdigest()
            if digest != asked.get("digest"):
                self.say(400, b'{"errors": [{"code": "DIGEST_INVALID"}]}')
                return
            self.registry.blobs[digest] = uploads.pop(rest)
            self.say(201, Location=f"/v2/kilns/blobs/{digest}")
            return
        status = {"POST": 202, "PATCH": 202, "GET": 204}[self.command]
        self.say(status, Location=f"/v2/kilns/blobs/uploads/{rest}", Range=f"0-{max(0, len(uploads[rest]) - 1)}")

    def _blobs(self, digest: str, asked: dict[str, str]) -> None:
        data = self.registry.blobs.get(digest)
        if data is None:
            self.say(404)
            return
        if told := re.fullmatch(r"bytes=(\d+)-", self.headers.get("Range", "")):
            self.say(206, data[int(told[1]) :])
        else:
            self.say(200, data)

    def _manifests(self, name: str, asked: dict[str, str]) -> None:
        registry = self.registry
        if self.command == "PUT":
            data = self.body()
            lost = [one["digest"] for one in json.loads(data).get("layers", []) if one["digest"] not in registry.blobs]
            if lost:
                self.say(404, b'{"errors": [{"code": "MANIFEST_BLOB_UNKNOWN"}]}')
                return
            digest = "sha256:" + hashlib.sha256(data).hexdigest()
            registry.manifests[digest] = data
            if not name.startswith("sha256:"):
                registry.tags[name] = digest
            self.say(201, Location=f"/v2/kilns/manifests/{digest}")
            return
        if self.command == "DELETE":
            if registry.keeps_all:
                self.say(405, b'{"errors": [{"code": "UNSUPPORTED"}]}')
                return
            registry.tags = {tag: digest for tag, digest in registry.tags.items() if name not in (tag, digest)}
            registry.manifests.pop(name, None)
            self.say(202)
            return
        found = registry.manifests.get(registry.tags.get(name, name))
        if found is None:
            self.say(404)
        else:
            self.say(200, found, Content_Type=json.loads(found).get("mediaType", ""))

    def _tags(self, rest: str, asked: dict[str, str]) -> None:
        """Two at a time, as one that has many does."""
        names = sorted(self.registry.tags)
        after = [name for name in names if name > asked.get("last", "")]
        more = {}
        if len(after) > 2:
            more = {"Link": f'</v2/kilns/tags/list?n=2&last={after[1]}>; rel="next"'}
        if not names:
            self.say(404)
            return
        self.say(200, json.dumps({"name": "kilns", "tags": after[:2]}).encode(), **more)

    def _referrers(self, digest: str, asked: dict[str, str]) -> None:
        if not self.registry.keeps_referrers:
            self.say(404)
            return
        found: list[dict[str, Any]] = []
        for name, data in self.registry.manifests.items():
            told = json.loads(data)
            if told.get("subject", {}).get("digest") == digest:
                found.append({"mediaType": told["mediaType"], "digest": name, "size": len(data),
                              "artifactType": told.get("artifactType", ""), "annotations": told.get("annotations", {})})  # fmt: skip
        index = {"schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json", "manifests": found}
        self.say(200, json.dumps(index).encode(), Content_Type="application/vnd.oci.image.index.v1+json")


@contextmanager
def serving(registry: Registry) -> Iterator[str]:
    """A registry on loopback; its host."""
    with answering(type("Answers", (Answers,), {"registry": registry})) as host:
        yield host


@contextmanager
def debians_own(folder: Path) -> Iterator[str]:
    """Debian's registry, with what it holds in a folder; its host and port."""
    place = folder / "registry"
    place.mkdir()
    port = loopback.free_port()
    host = f"127.0.0.1:{port}"
    (folder / "registry.yml").write_text(
        f"version: 0.1\nlog: {{level: error, accesslog: {{disabled: true}}}}\n"
        f"storage: {{filesystem: {{rootdirectory: {place}}}, delete: {{enabled: true}}}}\nhttp: {{addr: '{host}'}}\n"
    )
    with loopback.serving(["docker-registry", "serve", str(folder / "registry.yml")], port):
        yield host
