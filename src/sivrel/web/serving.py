"""The HTTP server with limits: on connections, idle time, and what a client without the key may send.

Waitress reads a request's whole body before the application sees it, so bodies of clients without the key are refused by their header.
"""

import time
from collections.abc import Callable
from typing import Any

from flask import Flask
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.server import BaseWSGIServer, create_server
from waitress.utilities import RequestEntityTooLarge

THREADS = 16
MOST_OPEN = 256
"""Most connections at a time; beyond that, the longest idle one is closed."""
IDLE_SECONDS = 60
MOST_OF_STRANGERS = 4096
"""Most bytes of a request body from a client without the key: enough for the key form."""
MOST_HEADER = 64 << 10


def make_server(app: Flask, host: str, port: int, admits: Callable[[dict[str, str]], bool], most_body: int) -> Any:
    """A server that runs `app`; `admits` decides by a request's headers (as WSGI names them) whether a large body is allowed. Raises OSError."""

    class Parser(HTTPRequestParser):  # type: ignore[misc]
        def parse_header(self, header_plus: bytes) -> None:
            super().parse_header(header_plus)
            if (self.content_length > MOST_OF_STRANGERS or self.chunked) and not admits(self.headers):
                self.error = RequestEntityTooLarge("Enter the key first.")
                self.completed = True

    class Channel(HTTPChannel):  # type: ignore[misc]
        parser_class = Parser

        def __init__(self, server: Any, *args: Any, **options: Any) -> None:
            super().__init__(server, *args, **options)
            _make_room(server)

    sockets: dict[int, Any] = {}
    server = create_server(
        app, host=host, port=port, threads=THREADS, ident="Sivrel", map=sockets, connection_limit=2 * MOST_OPEN, channel_timeout=IDLE_SECONDS,
        cleanup_interval=5, asyncore_use_poll=True, max_request_body_size=most_body, max_request_header_size=MOST_HEADER,
        outbuf_high_watermark=1 << 30,  # a thread must not wait for a slow reader
    )  # fmt: skip
    for listener in sockets.values():
        if isinstance(listener, BaseWSGIServer):
            listener.channel_class = Channel
    return server


def _make_room(server: Any) -> None:
    """Close the longest idle connection if there are too many, but none with a request in progress."""
    channels = [channel for channel in server.active_channels.values() if not channel.requests and not channel.will_close]
    if len(server.active_channels) <= MOST_OPEN or not channels:
        return

    def least_worth(channel: Any) -> tuple[bool, float]:
        receiving = channel.request is not None and channel.request.headers_finished
        return receiving, channel.last_activity if channel.last_activity else time.time()

    min(channels, key=least_worth).will_close = True
