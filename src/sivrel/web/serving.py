"""The HTTP server with bounds: on connections, on idling, and on what somebody without the key may send.

Waitress takes a request's whole body in before the application sees it, so bodies of strangers are refused at their header.
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
"""Connections at a time; beyond them, the one that has idled longest is closed for the next."""
IDLE_SECONDS = 60
MOST_OF_STRANGERS = 4096
"""Bytes of a request's body from somebody who has not given the key: the form that asks for it."""
MOST_HEADER = 64 << 10


def make_server(app: Flask, host: str, port: int, admits: Callable[[dict[str, str]], bool], most_body: int) -> Any:
    """A server that runs `app`; `admits` says of a request's headers (as WSGI names them) whether a large body may follow. Raises OSError."""

    class Parser(HTTPRequestParser):  # type: ignore[misc]
        def parse_header(self, header_plus: bytes) -> None:
            super().parse_header(header_plus)
            if (self.content_length > MOST_OF_STRANGERS or self.chunked) and not admits(self.headers):
                self.error = RequestEntityTooLarge("Give the key first.")
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
        outbuf_high_watermark=1 << 30,  # a thread must not wait for somebody who reads slowly
    )  # fmt: skip
    for listener in sockets.values():
        if isinstance(listener, BaseWSGIServer):
            listener.channel_class = Channel
    return server


def _make_room(server: Any) -> None:
    """Close the connection that has idled longest where there are too many; one whose request is worked on is spared."""
    channels = [channel for channel in server.active_channels.values() if not channel.requests and not channel.will_close]
    if len(server.active_channels) <= MOST_OPEN or not channels:
        return

    def least_worth(channel: Any) -> tuple[bool, float]:
        receiving = channel.request is not None and channel.request.headers_finished
        return receiving, channel.last_activity if channel.last_activity else time.time()

    min(channels, key=least_worth).will_close = True
