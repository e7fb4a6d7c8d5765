"""Asking hosts: proxies, and what a host says of when to come again."""

from __future__ import annotations

import threading
import time
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from email.utils import formatdate
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import NamedTuple
from unittest import mock

from lapidar.core.cache.store import Cache
from lapidar.core.errors import IndexTrouble, LapidarError
from lapidar.core.net import fetching
from lapidar.core.net.http import Client, Purpose
from support import InFolder

PURPOSE = Purpose("store of recipes", "Look at its address.", IndexTrouble)


class Asked(NamedTuple):
    """A file at an address."""

    name: str
    url: str
    sha256: str = ""
    bytes: int | None = None


class Host:
    """Answers each request with the next of some answers, and 200 after that; keeps what it was asked."""

    def __init__(self, *answers: tuple[int, dict[str, str]]) -> None:
        self.answers = list(answers)
        self.asked: list[tuple[str, str | None]] = []
        self.times: list[float] = []
        host = self

        class Handler(BaseHTTPRequestHandler):
            def log_message(self, format: str, *args: object) -> None:
                pass

            def do_GET(self) -> None:
                host.asked.append((self.path, self.headers.get("Proxy-Authorization")))
                host.times.append(time.monotonic())
                status, headers = host.answers.pop(0) if host.answers else (200, {})
                body = b"tin and lead" if status == 200 else b""
                self.send_response(status)
                for name, value in {**headers, "Content-Length": str(len(body))}.items():
                    self.send_header(name, value)
                self.end_headers()
                self.wfile.write(body)

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.address = f"http://127.0.0.1:{self.server.server_address[1]}"

    @contextmanager
    def running(self) -> Iterator[Host]:
        thread = threading.Thread(target=self.server.serve_forever, kwargs={"poll_interval": 0.02})
        thread.start()
        try:
            yield self
        finally:
            self.server.shutdown()
            thread.join()
            self.server.server_close()


class Kept(InFolder):
    def test_a_kept_answer_that_was_altered_is_asked_for_again(self) -> None:
        with Host((200, {"Cache-Control": "max-age=600"})).running() as host:
            client = Client(PURPOSE, self.root)
            for _ in range(2):
                self.assertEqual(client.get(f"{host.address}/glaze").body, b"tin and lead")
            self.assertEqual(len(host.asked), 1)
            (kept,) = (path for path in self.root.rglob("*") if path.is_file())
            data = kept.read_bytes()
            for at in range(0, len(data), 7):  # one bit anywhere, and as many bytes as before
                kept.write_bytes(data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :])
                self.assertEqual(client.get(f"{host.address}/glaze").body, b"tin and lead")

    def test_time_in_a_queue_does_not_count(self) -> None:
        """Downloads that wait for others have all of their own time."""
        cache = Cache(self.root / "cache", create=True)
        with Host().running() as host, mock.patch.object(fetching, "MOST_SECONDS", 1.5):
            client = Client(PURPOSE, None)
            waiting = [fetching.Fetched(client, Asked("glaze", f"{host.address}/glaze"), cache) for _ in range(3)]
            time.sleep(1.7)
            for one in waiting:
                with one as path:
                    self.assertEqual(path.read_bytes(), b"tin and lead")


class Proxies(unittest.TestCase):
    def test_those_of_the_environment_are_used(self) -> None:
        with Host().running() as proxy:
            named = proxy.address.replace("http://", "http://kiln:fire@")
            with mock.patch.dict("os.environ", {"http_proxy": named, "no_proxy": ".near.example"}):
                answer = Client(PURPOSE, None).get("http://recipes.example/glaze")
        self.assertEqual(answer.body, b"tin and lead")
        self.assertEqual(proxy.asked, [("http://recipes.example/glaze", "Basic a2lsbjpmaXJl")])

    def test_never_for_this_machine_nor_for_what_is_excepted(self) -> None:
        with Host().running() as host, Host().running() as proxy:
            set_here = {"http_proxy": proxy.address, "no_proxy": "recipes.invalid"}
            with mock.patch.dict("os.environ", set_here):
                client = Client(PURPOSE, None)
                self.assertEqual(client.get(f"{host.address}/glaze").status, 200)
                with self.assertRaises(LapidarError):
                    client.get("http://recipes.invalid/glaze")
        self.assertEqual((len(host.asked), proxy.asked), (1, []))


class TryingAgain(unittest.TestCase):
    def waited(self, later: str) -> float:
        with Host((503, {"Retry-After": later})).running() as host:
            client = Client(PURPOSE, None)
            self.assertEqual(client.get(f"{host.address}/glaze").body, b"tin and lead")
            self.assertEqual(client.requests, 2)
        return host.times[1] - host.times[0]

    def test_as_long_as_the_host_says(self) -> None:
        self.assertGreater(self.waited("2"), 1.9)

    def test_until_the_day_and_hour_that_it_says(self) -> None:
        # A date is in whole seconds: two from now are one at least.
        self.assertGreater(self.waited(formatdate(time.time() + 2, usegmt=True)), 0.9)

    def test_not_for_ever(self) -> None:
        with Host(*[(503, {})] * 9).running() as host:  # noqa: SIM117
            with self.assertRaisesRegex(IndexTrouble, "store of recipes .*cannot be used") as caught:
                Client(PURPOSE, None).get(f"{host.address}/glaze")
        self.assertIn("status 503", caught.exception.why)
        self.assertEqual(len(host.asked), 4)


if __name__ == "__main__":
    unittest.main()
