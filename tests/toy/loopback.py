"""A web server on loopback, for as long as a block."""

from __future__ import annotations

import http.server
import socketserver
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

__all__ = ["answering"]


@contextmanager
def answering(handler: Callable[[Any, Any, Any], socketserver.BaseRequestHandler]) -> Iterator[str]:
    """A server whose requests a handler answers; its host and port."""
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True).start()
    try:
        yield f"127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()
