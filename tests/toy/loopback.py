"""A web server on loopback, for as long as a block."""

from __future__ import annotations

import socket
import socketserver
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

from lapidar.standin.index import Server

__all__ = ["answering", "free_port", "serving"]


@contextmanager
def answering(handler: Callable[[Any, Any, Any], socketserver.BaseRequestHandler]) -> Iterator[str]:
    """A server whose requests a handler answers; its host and port."""
    server = Server(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True).start()
    try:
        yield f"127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()


def free_port() -> int:
    """One that nobody listens at."""
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


@contextmanager
def serving(command: list[str], port: int) -> Iterator[None]:
    """A program that serves at a port."""
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        for _ in range(600):
            if process.poll() is not None:
                raise RuntimeError(f"{command} ended with {process.returncode}")
            with suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
                break
            time.sleep(0.1)
        yield
    finally:
        process.kill()
        process.wait()
