"""Ask hosts: connections kept, many requests at once, what was seen before asked for conditionally, trouble told.

Only addresses that the user configured, and what these point to, are ever asked.
"""

from __future__ import annotations

import hashlib
import json
import netrc
import os
import re
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import unquote, urljoin, urlsplit, urlunsplit

import urllib3
from urllib3.exceptions import HTTPError, LocationParseError

from lapidar._version import VERSION
from lapidar.core.errors import IndexTrouble
from lapidar.core.languages.python.standards.direct_url import without_credentials

__all__ = ["AT_ONCE", "Answer", "Client"]

AT_ONCE = 16
_TRIES = 4
_BACKOFF_SECONDS = 0.25
_PASSING = frozenset({429, 500, 502, 503, 504})
_LONGEST_WAIT_SECONDS = 20.0


def _timeout_seconds() -> float:
    """How long to wait for an answer to begin, and for each piece of it: `LAPIDAR_TIMEOUT`, else 30 s."""
    try:
        return max(0.1, float(os.environ.get("LAPIDAR_TIMEOUT", "")))
    except ValueError:
        return 30.0


@dataclass(frozen=True, slots=True)
class Answer:
    """What a host answered: its status, its headers (names in lower case), the body, and the final address."""

    status: int
    headers: Mapping[str, str]
    body: bytes
    url: str


@dataclass(slots=True)
class Client:
    """Asks hosts.

    Args:
        kept: the folder that keeps answers; None keeps none.

    Attributes:
        requests: how many were sent.
    """

    kept: Path | None
    requests: int = 0
    _pool: urllib3.PoolManager = field(init=False)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def __post_init__(self) -> None:
        seconds = _timeout_seconds()
        self._pool = urllib3.PoolManager(
            num_pools=32,
            maxsize=AT_ONCE,
            block=True,
            timeout=urllib3.Timeout(connect=min(10.0, seconds), read=seconds),
            headers={"User-Agent": f"lapidar/{VERSION}"},
            retries=False,  # see `_asked`: what is cut in the middle of a body must be asked again too
        )

    # ---- whole answers, kept

    def get(self, url: str, *, accept: str = "*/*", forever: bool = False) -> Answer:
        """Get what is at an address; a kept answer that is still good is not asked for again.

        Args:
            forever: what is there never changes (a file of an index).

        Raises:
            IndexTrouble: the host does not answer, or with an error other than 404.
        """
        kept = self._kept(url, accept)
        if kept and (forever or time.time() < kept[1]):
            return kept[0]
        headers = {"Accept": accept}
        if kept:
            if etag := kept[0].headers.get("etag"):
                headers["If-None-Match"] = etag
            if modified := kept[0].headers.get("last-modified"):
                headers["If-Modified-Since"] = modified
        answer = self._whole(url, headers)
        if answer.status == 304 and kept:
            fresh = {name: answer.headers[name] for name in ("etag", "cache-control") if name in answer.headers}
            answer = Answer(200, {**kept[0].headers, **fresh}, kept[0].body, kept[0].url)
        if answer.status == 200:
            self._keep(url, accept, answer)
        return answer

    def _name(self, url: str, accept: str) -> Path | None:
        if self.kept is None:
            return None
        digest = hashlib.sha256(f"{accept}\n{url}".encode()).hexdigest()
        return self.kept / digest[:2] / digest[2:]

    def _kept(self, url: str, accept: str) -> tuple[Answer, float] | None:
        """The kept answer, and until when it is good."""
        path = self._name(url, accept)
        try:
            head, _, body = path.read_bytes().partition(b"\n") if path else (b"", b"", b"")
            told = json.loads(head)
            if told["bytes"] != len(body):
                return None
            return Answer(200, told["headers"], body, told["url"]), float(told["good_until"])
        except (OSError, ValueError, KeyError, TypeError):
            return None

    def _keep(self, url: str, accept: str, answer: Answer) -> None:
        path = self._name(url, accept)
        if path is None:
            return
        age = re.search(r"max-age=(\d+)", answer.headers.get("cache-control", ""))
        wanted = ("etag", "last-modified", "content-type", "cache-control")
        told = {
            "url": without_credentials(answer.url),
            "bytes": len(answer.body),
            "good_until": time.time() + (int(age[1]) if age else 0),
            "headers": {name: answer.headers[name] for name in wanted if name in answer.headers},
        }
        # Nothing is lost where this is: no flush. The size in the head tells a torn file.
        part = path.with_name(f".{path.name}-{os.urandom(4).hex()}")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            part.write_bytes(json.dumps(told).encode() + b"\n" + answer.body)
            os.rename(part, path)
        except OSError:
            with suppress(OSError):
                part.unlink()

    def _whole(self, url: str, headers: Mapping[str, str]) -> Answer:
        """An answer with all of its body, tried again where the connection is cut."""
        for left in reversed(range(_TRIES)):
            with self.stream(url, headers) as response:
                try:
                    body = response.read(decode_content=True)
                    return Answer(
                        response.status, _lower(response.headers), body, urljoin(url, response.geturl() or "")
                    )
                except (HTTPError, OSError) as error:
                    if not left:
                        raise _unreachable(url, f"it breaks off in the middle of an answer ({error})") from error
            time.sleep(_BACKOFF_SECONDS)
        raise AssertionError

    # ---- one answer, piece by piece

    @contextmanager
    def stream(self, url: str, headers: Mapping[str, str]) -> Iterator[urllib3.BaseHTTPResponse]:
        """An answer whose body is not read yet. What passes (busy, unavailable, no connection) is tried again.

        Raises:
            IndexTrouble: there is no answer, or one that says no.
        """
        response = self._asked(url, headers)
        try:
            if response.status in (401, 403):
                raise _refused(url, response.status)
            if response.status >= 400 and response.status not in (404, 410, 416):
                raise _unreachable(url, f"it answers with status {response.status} ({response.reason or 'no reason'})")
            yield response
        finally:
            response.close()  # one that was read to its end has gone back to the pool already

    def _asked(self, url: str, headers: Mapping[str, str]) -> urllib3.BaseHTTPResponse:
        address, credentials = _credentials(url)
        sent = {**headers, **credentials}
        why: object = ""
        for number in range(_TRIES):
            with self._lock:
                self.requests += 1
            wait = _BACKOFF_SECONDS * 2**number
            try:
                response = self._pool.request(
                    "GET", address, headers=sent, preload_content=False, redirect=True, retries=_REDIRECTS
                )
            except LocationParseError as error:
                raise _unreachable(url, f"it is no address: {error}") from error
            except (HTTPError, OSError) as error:
                why = _plain(error)
            else:
                if response.status not in _PASSING or number == _TRIES - 1:
                    return response
                why = f"status {response.status}"
                wait = _asked_to_wait(response.headers.get("Retry-After"), wait)
                response.close()
            if number < _TRIES - 1:
                time.sleep(wait)
        raise _unreachable(url, f"tried {_TRIES} times: {why}")


# Redirects are followed; everything else is tried again by us. Credentials never follow to another host.
_REDIRECTS = urllib3.Retry(total=None, connect=0, read=0, status=0, other=0, redirect=5)


def _lower(headers: Mapping[str, str]) -> dict[str, str]:
    return {name.lower(): value for name, value in headers.items()}


def _asked_to_wait(text: str | None, otherwise: float) -> float:
    return min(float(text), _LONGEST_WAIT_SECONDS) if text and text.isdigit() else otherwise


def _plain(error: Exception) -> str:
    """An error of the connection in words, without the addresses of objects."""
    cause = error.__cause__ or error
    text = re.sub(r"<[^>]*>:? ?|HTTPS?ConnectionPool\([^)]*\):? ?", "", str(cause))
    return " ".join(text.split()) or type(cause).__name__


def _host(url: str) -> str:
    parts = urlsplit(without_credentials(url))
    return f"{parts.scheme}://{parts.netloc}"


def _unreachable(url: str, why: str) -> IndexTrouble:
    return IndexTrouble(
        f"The package index at {_host(url)} cannot be used",
        why=f"{without_credentials(url)}: {why}",
        remedy="Try again later, or name another address in [index] or LAPIDAR_INDEX. Nothing was changed.",
    )


def _refused(url: str, status: int) -> IndexTrouble:
    what = "asks for a name and a password" if status == 401 else "refuses access"
    return IndexTrouble(
        f"The package index at {_host(url)} {what} (status {status})",
        why=without_credentials(url),
        remedy=f"Put them into ~/.netrc for the host {urlsplit(url).hostname}, readable by you alone.",
    )


def _credentials(url: str) -> tuple[str, dict[str, str]]:
    """An address without the name and the password in it, and the header that holds them instead. Where the address
    has none, netrc may."""
    parts = urlsplit(url)
    name, password = unquote(parts.username or ""), unquote(parts.password or "")
    address = urlunsplit(parts._replace(netloc=parts.netloc.rpartition("@")[2]))
    if not name:
        try:
            found = netrc.netrc(os.environ.get("NETRC")).authenticators(parts.hostname or "")
        except (OSError, netrc.NetrcParseError):
            found = None
        if not found:
            return address, {}
        name, password = found[0] or "", found[2] or ""
    return address, urllib3.make_headers(basic_auth=f"{name}:{password}")
