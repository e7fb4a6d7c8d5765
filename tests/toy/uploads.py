"""A small package index that takes uploads, as the protocol of indexes has it, and shows its pages."""

from __future__ import annotations

import base64
import hashlib
import http.server
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from email.parser import BytesParser
from email.policy import HTTP

from toy.loopback import answering

Fault = Callable[["Answers"], bool]


class Uploads:
    """What it holds.

    Attributes:
        files: by name; fields: what came with each.
        password: "name:password" that it wants for uploads.
        fault: is asked before each upload; true where it has answered itself.
    """

    def __init__(self) -> None:
        self.files: dict[str, bytes] = {}
        self.fields: dict[str, dict[str, list[str]]] = {}
        self.password = ""
        self.fault: Fault | None = None


class Answers(http.server.BaseHTTPRequestHandler):
    held: Uploads

    def log_message(self, *words: object) -> None: ...

    def say(self, status: int, body: bytes = b"", kind: str = "text/html") -> None:
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def do_GET(self) -> None:
        parts = self.path.strip("/").split("/")
        if parts[0] == "files" and parts[1] in self.held.files:
            self.say(200, self.held.files[parts[1]], "application/octet-stream")
        elif parts[0] == "simple" and len(parts) == 2:
            mine = [one for one in self.held.files if one.replace("_", "-").startswith(f"{parts[1]}-")]
            links = [
                f'<a href="/files/{one}#sha256={hashlib.sha256(self.held.files[one]).hexdigest()}">{one}</a>'
                for one in sorted(mine)
            ]
            self.say(200 if mine else 404, "\n".join(links).encode())
        else:
            self.say(404)

    def do_POST(self) -> None:
        data = self.rfile.read(int(self.headers["Content-Length"]))
        if self.held.fault and self.held.fault(self):
            return
        shown = "Basic " + base64.b64encode(self.held.password.encode()).decode()
        if self.held.password and self.headers.get("Authorization") != shown:
            self.say(
                403,
                b"<html><head><title>x</title></head><body><h1>403</h1>Invalid or non-existent\n authentication</body>",
            )
            return
        message = BytesParser(policy=HTTP).parsebytes(
            f"Content-Type: {self.headers['Content-Type']}\r\n\r\n".encode() + data
        )
        fields: dict[str, list[str]] = {}
        content, name = b"", ""
        for part in message.iter_parts():
            told = str(part.get_param("name", header="content-disposition"))
            data = bytes(part.get_payload(decode=True) or b"")
            if told == "content":
                content, name = data, str(part.get_filename())
            else:
                fields.setdefault(told, []).append(data.decode())
        good = fields[":action"] == ["file_upload"] and fields["protocol_version"] == ["1"]
        if not good or fields["sha256_digest"] != [hashlib.sha256(content).hexdigest()]:
            self.say(400, b"400 the form is wrong")
        elif name in self.held.files:
            self.say(400, b"400 File already exists")
        else:
            self.held.files[name], self.held.fields[name] = content, fields
            self.say(200)


@contextmanager
def taking(held: Uploads) -> Iterator[str]:
    """Such an index on loopback; its address."""
    with answering(type("Here", (Answers,), {"held": held})) as host:
        yield f"http://{host}"
