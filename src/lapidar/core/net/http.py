"""Ask hosts: connections kept, many requests at once, what was seen before asked for conditionally, trouble told.

Only addresses that the user configured, and what these point to, are ever asked: by way of the proxies that the
environment names (HTTP_PROXY, HTTPS_PROXY, NO_PROXY; never for this machine itself), trusting whom the system trusts.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import threading
import time
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from functools import cache, cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import unquote, urljoin, urlsplit, urlunsplit

from msgspec import Struct

from lapidar._version import VERSION
from lapidar.core import foreign, sealed
from lapidar.core.errors import LapidarError
from lapidar.core.net.addresses import without_credentials

if TYPE_CHECKING:  # loaded where somebody is asked: most commands ask nobody
    import ssl

    import urllib3

__all__ = ["AT_ONCE", "Answer", "Client", "Purpose", "login_of"]

AT_ONCE = 16
MOST_SECONDS = 300  # for a whole answer that is no file
_PIECE_BYTES = 1 << 16
# How often a body that is cut in the middle is asked for, and how long to wait in between.
_TRIES = 4
_PAUSE_SECONDS = 0.25
# Where systems keep whom they trust, for a runtime that was built to look elsewhere.
_TRUSTED = ("/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt", "/etc/ssl/ca-bundle.pem")
_THIS_MACHINE = re.compile(r"localhost|127\.\d+\.\d+\.\d+|::1")


def _timeout_seconds() -> float:
    """How long to wait for an answer to begin, and for each piece of it: `LAPIDAR_TIMEOUT`, else 30 s."""
    try:
        return max(0.1, float(os.environ.get("LAPIDAR_TIMEOUT", "")))
    except ValueError:
        return 30.0


class Answer(Struct, frozen=True):
    """What a host answered: its status, its headers (names in lower case), the body, and the final address."""

    status: int
    headers: Mapping[str, str]
    body: bytes
    url: str


class _KeptAnswer(NamedTuple):
    """An answer that was kept, and until when it is good (seconds since 1970)."""

    answer: Answer
    good_until: float


class Purpose(NamedTuple):
    """What hosts are asked for, for the errors that tell of trouble.

    Attributes:
        noun: what a host is: "package index".
        remedy: what to do where one cannot be used.
        error: what is raised.
    """

    noun: str
    remedy: str
    error: type[LapidarError]


class Client:
    """Asks hosts.

    Args:
        purpose: what for.
        kept: the folder that keeps answers; None keeps none.
        places: addresses that may have a name and a password in them: these are for their host and port, and for no
            others. Where they have none, netrc's are, for the hosts and ports of these addresses.

    Attributes:
        requests: how many were sent.
    """

    def __init__(self, purpose: Purpose, kept: Path | None, places: Iterable[str] = ()) -> None:
        self.purpose = purpose
        self.kept = kept
        self.requests = 0
        self._pools: dict[str, urllib3.PoolManager] = {}
        self._lock = threading.Lock()
        self._for_places: dict[tuple[str, str, int | None], dict[str, str]] = {}
        for place in filter(_is_address, places):
            self._for_places.setdefault(_place(place), _credentials(place)[1])

    @cached_property
    def _proxies(self) -> dict[str, str]:
        import urllib.request

        return urllib.request.getproxies()

    def _pool(self, url: str) -> urllib3.PoolManager:
        """The connections for an address: straight to it, or by way of a proxy."""
        import urllib.request

        parts = urlsplit(url)
        host = parts.hostname or ""
        proxy = self._proxies.get(parts.scheme, self._proxies.get("all", ""))
        if _THIS_MACHINE.fullmatch(host) or urllib.request.proxy_bypass(host):
            proxy = ""
        with self._lock:
            if proxy not in self._pools:
                self._pools[proxy] = _connections(proxy)
            return self._pools[proxy]

    # ---- whole answers, kept

    def get(self, url: str, *, accept: str = "*/*", forever: bool = False) -> Answer:
        """Get what is at an address; a kept answer that is still good is not asked for again.

        Args:
            forever: what is there never changes (a file of an index).

        Raises:
            LapidarError: that of its purpose: the host does not answer, or with an error other than 404.
        """
        kept = self._kept(url, accept)
        if kept and (forever or time.time() < kept.good_until):
            return kept.answer
        headers = {"Accept": accept}
        if kept:
            if etag := kept.answer.headers.get("etag"):
                headers["If-None-Match"] = etag
            if modified := kept.answer.headers.get("last-modified"):
                headers["If-Modified-Since"] = modified
        answer = self._whole(url, headers)
        if answer.status == 304 and kept:
            fresh = {name: answer.headers[name] for name in ("etag", "cache-control") if name in answer.headers}
            answer = Answer(200, {**kept.answer.headers, **fresh}, kept.answer.body, kept.answer.url)
        if answer.status == 200:
            self._keep(url, accept, answer)
        return answer

    def _name(self, url: str, accept: str) -> Path | None:
        if self.kept is None:
            return None
        digest = hashlib.sha256(f"{accept}\n{url}".encode()).hexdigest()
        return self.kept / digest[:2] / digest[2:]

    def _kept(self, url: str, accept: str) -> _KeptAnswer | None:
        path = self._name(url, accept)
        try:
            head, _, body = ((path and sealed.read(path)) or b"").partition(b"\n")
            told = json.loads(head)
            return _KeptAnswer(Answer(200, told["headers"], body, told["url"]), float(told["good_until"]))
        except (ValueError, KeyError, TypeError):
            return None

    def _keep(self, url: str, accept: str, answer: Answer) -> None:
        path = self._name(url, accept)
        if path is None:
            return
        age = re.search(r"max-age=(\d+)", answer.headers.get("cache-control", ""))
        wanted = ("etag", "last-modified", "content-type", "cache-control")
        told = {
            "url": without_credentials(answer.url),
            "good_until": time.time() + (int(age[1]) if age else 0),
            "headers": {name: answer.headers[name] for name in wanted if name in answer.headers},
        }
        # Nothing is lost where this is: no flush.
        sealed.keep(path, lambda: json.dumps(told).encode() + b"\n" + answer.body, flush=False)

    def _whole(self, url: str, headers: Mapping[str, str]) -> Answer:
        """An answer with all of its body, tried again where the connection is cut."""
        from urllib3.exceptions import HTTPError

        for left in reversed(range(_TRIES)):
            with self.stream(url, headers) as response:
                try:
                    body = self._read(response, url)
                    return Answer(
                        response.status, _lower(response.headers), body, urljoin(url, response.geturl() or "")
                    )
                except (HTTPError, OSError) as error:
                    if not left:
                        raise self._unusable(url, f"it breaks off in the middle of an answer ({error})") from error
            time.sleep(_PAUSE_SECONDS)
        raise AssertionError

    def _read(self, response: urllib3.BaseHTTPResponse, url: str) -> bytes:
        """The whole body, within the limits of what a page may be and how long it may take."""
        ends = time.monotonic() + MOST_SECONDS
        pieces, size = [], 0
        for piece in response.stream(_PIECE_BYTES, decode_content=True):
            size += len(piece)
            if size > foreign.MOST_PAGE_BYTES:
                raise self._unusable(url, f"its answer is larger than {foreign.MOST_PAGE_BYTES:,} bytes")
            if time.monotonic() > ends:
                raise self._unusable(url, f"its answer is not there after {MOST_SECONDS} s")
            pieces.append(piece)
        return b"".join(pieces)

    # ---- other questions than what is there

    def ask(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None = None) -> Answer:
        """Ask something, whatever the answer's status says. What is the same asked twice (all but POST and PATCH) is
        tried again where a host is busy or a connection fails.

        Raises:
            LapidarError: that of its purpose: there is no answer.
        """
        from urllib3.exceptions import HTTPError

        response = self._asked(url, headers, method, body)
        try:
            data = self._read(response, url)
            return Answer(response.status, _lower(response.headers), data, urljoin(url, response.geturl() or ""))
        except (HTTPError, OSError) as error:
            raise self._unusable(url, f"it breaks off in the middle of an answer ({error})") from error
        finally:
            _give_back(response)

    def unusable(self, url: str, why: str) -> LapidarError:
        """The error for a host that cannot be used."""
        return self._unusable(url, why)

    # ---- one answer, piece by piece

    @contextmanager
    def stream_any(self, url: str, headers: Mapping[str, str]) -> Iterator[urllib3.BaseHTTPResponse]:
        """An answer whose body is not read yet, whatever its status. What passes (busy, unavailable, no connection) is
        tried again.

        Raises:
            LapidarError: that of its purpose: there is no answer.
        """

        response = self._asked(url, headers)
        try:
            yield response
        finally:
            _give_back(response)

    @contextmanager
    def stream(self, url: str, headers: Mapping[str, str]) -> Iterator[urllib3.BaseHTTPResponse]:
        """An answer whose body is not read yet; see `stream_any`.

        Raises:
            LapidarError: that of its purpose: there is no answer, or one that says no.
        """
        with self.stream_any(url, headers) as response:
            if response.status in (401, 403):
                raise self._refused(url, response.status)
            if response.status >= 400 and response.status not in (404, 410, 416):
                raise self._unusable(
                    url, f"it answers with status {response.status} ({response.reason or 'no reason'})"
                )
            yield response

    def _asked(
        self, url: str, headers: Mapping[str, str], method: str = "GET", body: bytes | None = None
    ) -> urllib3.BaseHTTPResponse:
        from urllib3.exceptions import HTTPError, LocationParseError, MaxRetryError

        if not _is_address(url):
            raise self._unusable(url, "it is no address")
        address, own = _credentials(url, netrc_too=False)
        credentials = {} if "Authorization" in headers else own or self._for_places.get(_place(url), {})
        try:
            response = self._pool(address).request(
                method, address, body, headers={**headers, **credentials}, preload_content=False, retries=_again()
            )
        except LocationParseError as error:
            raise self._unusable(url, f"it is no address: {error}") from error
        except MaxRetryError as error:
            self._count(_TRIES)
            raise self._unusable(url, f"tried {_TRIES} times: {_plain(error.reason or error)}") from error
        except (HTTPError, OSError) as error:
            self._count(1)
            raise self._unusable(url, _plain(error)) from error
        self._count(1 + len(response.retries.history if response.retries else ()))
        return response

    def _count(self, requests: int) -> None:
        with self._lock:
            self.requests += requests

    def _unusable(self, url: str, why: str) -> LapidarError:
        return self.purpose.error(
            f"The {self.purpose.noun} at {_host(url)} cannot be used",
            why=f"{without_credentials(url)}: {why}",
            remedy=self.purpose.remedy,
        )

    def _refused(self, url: str, status: int) -> LapidarError:
        what = "asks for a name and a password" if status == 401 else "refuses access"
        return self.purpose.error(
            f"The {self.purpose.noun} at {_host(url)} {what} (status {status})",
            why=without_credentials(url),
            remedy=f"Put them into ~/.netrc for the host {urlsplit(url).hostname}, readable by you alone.",
        )


def _give_back(response: urllib3.BaseHTTPResponse) -> None:
    """End with an answer. One that was read to its end has given its connection back already; any other is closed
    first, since what is left of it would be taken for the next answer, and its place among the connections is freed."""
    response.close()
    response.release_conn()


@cache
def _again() -> urllib3.Retry:
    """What is tried again before there is an answer, four times in all: a connection that fails, and the statuses by
    which a host says that it is busy. Between the tries 0, 0.5 and 1 s pass, each with up to 0.1 s more so that many
    who were turned away together do not come back together; or as long as the host asks (seconds, or a date), 20 s at
    most. Redirects are followed, five at most; credentials never follow one to another host."""
    import urllib3

    return urllib3.Retry(
        total=None,
        connect=_TRIES - 1,
        read=_TRIES - 1,
        status=_TRIES - 1,
        other=0,
        redirect=5,
        status_forcelist=frozenset({429, 500, 502, 503, 504}),
        backoff_factor=0.25,
        backoff_jitter=0.1,
        retry_after_max=20,
        raise_on_status=False,
    )


def _connections(proxy: str) -> urllib3.PoolManager:
    import urllib3

    seconds = _timeout_seconds()
    settings: dict[str, Any] = {
        "num_pools": 32,
        "maxsize": AT_ONCE,
        "block": True,
        "timeout": urllib3.Timeout(connect=min(10.0, seconds), read=seconds),
        "headers": {"User-Agent": f"lapidar/{VERSION}"},
        "ssl_context": _trust(),
    }
    if not proxy:
        return urllib3.PoolManager(**settings)
    address, credentials = _credentials(proxy if "://" in proxy else f"http://{proxy}")
    named = {f"proxy-{name}": value for name, value in credentials.items()}
    return urllib3.ProxyManager(address, proxy_headers=named, **settings)


def _trust() -> ssl.SSLContext:
    """Whom the system trusts (SSL_CERT_FILE and SSL_CERT_DIR name others)."""
    import ssl

    context = ssl.create_default_context()
    found = next((path for path in _TRUSTED if os.path.isfile(path)), None)
    if found and not context.cert_store_stats()["x509_ca"]:
        context.load_verify_locations(cafile=found)
    return context


def _lower(headers: Mapping[str, str]) -> dict[str, str]:
    return {name.lower(): value for name, value in headers.items()}


def _plain(error: Exception) -> str:
    """An error of the connection in words, without the addresses of objects."""
    cause = error.__cause__ or error
    text = re.sub(r"<[^>]*>:? ?|HTTPS?ConnectionPool\([^)]*\):? ?", "", str(cause))
    return " ".join(text.split()) or type(cause).__name__


def _host(url: str) -> str:
    parts = urlsplit(without_credentials(url))
    return f"{parts.scheme}://{parts.netloc}"


def _is_address(url: str) -> bool:
    """Whether an address has a form that can be asked."""
    try:
        parts = urlsplit(url)
        return bool(parts.hostname) and (parts.port is None or parts.port >= 0)
    except ValueError:
        return False


def _place(url: str) -> tuple[str, str, int | None]:
    """Scheme, host and port of an address; what is no address has none."""
    try:
        parts = urlsplit(url)
        usual = {"http": 80, "https": 443}.get(parts.scheme)
        return parts.scheme, parts.hostname or "", parts.port or usual
    except ValueError:
        return "", "", None


def login_of(host: str) -> tuple[str, str] | None:
    """The user's name and password for a host, as netrc has them; None where it has none."""
    import netrc

    try:
        found = netrc.netrc(os.environ.get("NETRC")).authenticators(host)
    except (OSError, netrc.NetrcParseError):
        return None
    return (found[0] or "", found[2] or "") if found else None


def _credentials(url: str, *, netrc_too: bool = True) -> tuple[str, dict[str, str]]:
    """An address without the name and the password in it, and the header that holds them instead. Where the address
    has none, netrc may."""
    parts = urlsplit(url)
    name, password = unquote(parts.username or ""), unquote(parts.password or "")
    address = urlunsplit(parts._replace(netloc=parts.netloc.rpartition("@")[2]))
    if not name:
        if not netrc_too:
            return address, {}
        found = login_of(parts.hostname or "")
        if not found:
            return address, {}
        name, password = found
    import urllib3

    return address, urllib3.make_headers(basic_auth=f"{name}:{password}")
