"""A small package index: the standard Simple API over a folder of files, with faults on demand.

It stands in for a real index in the demo, the tests and the benchmarks. ``python -m lapidar.standin.index FOLDER``
serves a folder until it is interrupted.
"""

from __future__ import annotations

import argparse
import base64
import hashlib
import html
import json
import re
import threading
import time
import zipfile
from collections.abc import Mapping
from functools import lru_cache
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from types import TracebackType
from typing import Any

from msgspec import Struct, field

from lapidar.core.languages.python.index.indexes import name_of
from lapidar.core.languages.python.index.remote_wheel import metadata_member

__all__ = ["FileFacts", "Server", "StandInIndex"]

_JSON = "application/vnd.pypi.simple.v1+json"


class FileFacts(Struct, frozen=True):
    """What the index tells of a file beside what it is.

    Attributes:
        withdrawn: why it was; None where it was not.
        sha256: another digest than the true one.
    """

    uploaded: str = "2024-01-01T00:00:00Z"
    withdrawn: str | None = None
    requires_python: str = ""
    sha256: str = ""


class StandInIndex(Struct):
    """A running index; a context that stops it.

    Args:
        folder: its files, all in one.
        facts: of files, by their names.
        json: speak the JSON form to those who ask for it.
        serves_metadata: serve METADATA beside the wheels.
        ranges: give pieces of files.
        credentials: "name:password" that is asked for.
        faults: for a part of a path, what goes wrong with the first requests for it, in their order: a status
            ("500"), "slow SECONDS", "cut BYTES" (the connection ends after so many bytes of the body), or "ok".

    Attributes:
        requests: the paths that were asked for.
    """

    folder: Path
    facts: Mapping[str, FileFacts] = field(default_factory=dict)
    json: bool = True
    serves_metadata: bool = True
    ranges: bool = True
    credentials: str = ""
    faults: dict[str, list[str]] = field(default_factory=dict)
    requests: list[str] = field(default_factory=list)
    _server: ThreadingHTTPServer | None = None

    @property
    def address(self) -> str:
        """Its address on this machine."""
        assert self._server is not None
        return f"http://127.0.0.1:{self._server.server_address[1]}/simple"

    def start(self, port: int = 0) -> None:
        """Begin to answer."""
        self._server = Server(("127.0.0.1", port), type("Bound", (_Handler,), {"index": self}))
        threading.Thread(target=self._server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True).start()

    def stop(self) -> None:
        """Answer no more."""
        if self._server is not None:
            self._server.shutdown()
            self._server.server_close()

    def __enter__(self) -> StandInIndex:
        self.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()

    # ---- what there is

    def names(self) -> dict[str, list[Path]]:
        """The files of every name."""
        return _names(self.folder, self.folder.stat().st_mtime_ns)

    def page(self, name: str) -> list[dict[str, Any]] | None:
        """The files of a project, as the JSON form has them; None for one that is not known."""
        paths = self.names().get(name)
        if paths is None:
            return None
        files = []
        for path in paths:
            facts = self.facts.get(path.name, FileFacts())
            files.append(
                {
                    "filename": path.name,
                    "url": f"../../files/{path.name}",
                    "hashes": {"sha256": facts.sha256 or _digest(path, path.stat().st_mtime_ns)},
                    "size": path.stat().st_size,
                    "upload-time": facts.uploaded,
                    "requires-python": facts.requires_python or None,
                    "yanked": facts.withdrawn or True if facts.withdrawn is not None else False,
                    "core-metadata": self.serves_metadata and path.suffix == ".whl",
                }
            )
        return files


@lru_cache(maxsize=8)
def _names(folder: Path, changed: int) -> dict[str, list[Path]]:
    found: dict[str, list[Path]] = {}
    for path in sorted(folder.iterdir()):
        name = name_of(path.name)
        if name:
            found.setdefault(name, []).append(path)
    return found


@lru_cache(maxsize=4096)
def _digest(path: Path, changed: int) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


class Server(ThreadingHTTPServer):
    """Takes many connections at once, and says nothing of clients that go away in the middle of an answer: that is what
    they are made to do."""

    daemon_threads = True
    request_queue_size = 64  # of connections that are not taken yet: what comes beyond is tried again a second later

    def handle_error(self, request: object, client_address: object) -> None:
        pass


class _Handler(BaseHTTPRequestHandler):
    """Answers one connection."""

    protocol_version = "HTTP/1.1"
    index: StandInIndex

    def log_message(self, format: str, *args: object) -> None:
        pass

    def do_GET(self) -> None:
        self.index.requests.append(self.path)
        fault = self._fault()
        if fault.startswith("slow "):
            time.sleep(float(fault[5:]))
        elif fault.isdigit():
            self._send(int(fault), b"a fault on demand", "text/plain")
            return
        if self.index.credentials and not self._is_allowed():
            self._send(401, b"who are you?", "text/plain", {"WWW-Authenticate": "Basic"})
            return
        self._cut = int(fault[4:]) if fault.startswith("cut ") else None
        if matched := re.fullmatch(r"/simple/([^/]*)/?", self.path):
            self._page(matched[1])
        elif matched := re.fullmatch(r"/files/([^/]+?)(\.metadata)?", self.path):
            self._file(self.index.folder / matched[1], bool(matched[2]))
        else:
            self._send(404, b"not here", "text/plain")

    def _fault(self) -> str:
        for part, several in self.index.faults.items():
            if part in self.path and several:
                return several.pop(0)
        return ""

    def _is_allowed(self) -> bool:
        expected = "Basic " + base64.b64encode(self.index.credentials.encode()).decode()
        return self.headers.get("Authorization") == expected

    def _page(self, name: str) -> None:
        as_json = self.index.json and _JSON in self.headers.get("Accept", "")
        if not name:
            self._root(as_json)
            return
        files = self.index.page(name)
        if files is None:
            self._send(404, b"no such project", "text/plain")
            return
        if as_json:
            body = json.dumps({"meta": {"api-version": "1.1"}, "name": name, "files": files}).encode()
        else:
            body = _as_html(name, files).encode()
        tag = f'"{hashlib.sha256(body).hexdigest()[:16]}"'
        if self.headers.get("If-None-Match") == tag:
            self._send(304, b"", "text/plain", {"ETag": tag})
            return
        self._send(200, body, _JSON if as_json else "text/html; charset=utf-8", {"ETag": tag})

    def _root(self, as_json: bool) -> None:
        names = list(self.index.names())
        if as_json:
            projects = [{"name": name} for name in names]
            self._send(200, json.dumps({"meta": {"api-version": "1.1"}, "projects": projects}).encode(), _JSON)
        else:
            links = "".join(f'<a href="{name}/">{name}</a>\n' for name in names)
            self._send(200, f"<!DOCTYPE html><html><body>{links}</body></html>".encode(), "text/html")

    def _file(self, path: Path, metadata: bool) -> None:
        if not path.is_file() or (metadata and not self.index.serves_metadata):
            self._send(404, b"no such file", "text/plain")
            return
        if metadata:
            try:
                with zipfile.ZipFile(path) as archive:
                    self._send(200, archive.read(metadata_member(archive)), "text/plain")
            except zipfile.BadZipFile:
                self._send(404, b"it has none", "text/plain")
            return
        data = path.read_bytes()
        wanted = re.fullmatch(r"bytes=(\d*)-(\d*)", self.headers.get("Range", ""))
        if not wanted or not self.index.ranges:
            self._send(200, data, "application/octet-stream")
            return
        first = int(wanted[1]) if wanted[1] else max(0, len(data) - int(wanted[2]))
        last = min(int(wanted[2]), len(data) - 1) if wanted[1] and wanted[2] else len(data) - 1
        told = {"Content-Range": f"bytes {first}-{last}/{len(data)}"}
        self._send(206, data[first : last + 1], "application/octet-stream", told)

    def _send(self, status: int, body: bytes, kind: str, more: Mapping[str, str] | None = None) -> None:
        cut: int | None = getattr(self, "_cut", None)
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        for name, value in (more or {}).items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body if cut is None else body[:cut])
        if cut is not None:
            self.close_connection = True
            self._cut = None


def _as_html(name: str, files: list[dict[str, Any]]) -> str:
    links = []
    for file in files:
        attributes = {"href": f"{file['url']}#sha256={file['hashes']['sha256']}"}
        if file["requires-python"]:
            attributes["data-requires-python"] = file["requires-python"]
        if file["yanked"]:
            attributes["data-yanked"] = file["yanked"] if isinstance(file["yanked"], str) else ""
        if file["core-metadata"]:
            attributes["data-core-metadata"] = "true"
        shown = " ".join(f'{key}="{html.escape(value, quote=True)}"' for key, value in attributes.items())
        links.append(f"<a {shown}>{file['filename']}</a><br>")
    return f"<!DOCTYPE html><html><head><title>{name}</title></head><body>\n{chr(10).join(links)}\n</body></html>"


def main() -> None:
    """Serve a folder until interrupted."""
    parser = argparse.ArgumentParser(description="A stand-in for a package index: serves a folder of packages.")
    parser.add_argument("folder", type=Path)
    parser.add_argument("--port", type=int, default=0)
    options = parser.parse_args()
    index = StandInIndex(options.folder)
    index.start(options.port)
    print(index.address, flush=True)
    try:
        threading.Event().wait()
    except KeyboardInterrupt:
        index.stop()


if __name__ == "__main__":
    main()
