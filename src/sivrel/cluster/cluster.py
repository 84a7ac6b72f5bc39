"""Helpers at a Dask scheduler: tiles are handed out to them, as long as any is there."""

import logging
import queue
import socket
import threading
import time
import uuid
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal
from urllib.parse import urlsplit

import numpy as np
from distributed import Client, Future, Security

from ..core.errors import InputError
from ..core.render.tiles import Deliver, TileJob
from ..core.task import Cancel
from ..core.work_time import add_work
from . import helper
from .content import Content, Taker
from .content_folder import Missing

LOOK = 0.2
"""Seconds between looks at who is there, and at what was cancelled."""
TASK_SECONDS, MOST_TILES = 0.5, 16
"""How long a task should take, and the most tiles in one."""
AHEAD = 1
"""Tasks that wait at a helper besides those that run, so that it never waits for the next."""
LATE = 3.0
"""A task that takes this many times as long as one usually does is given to a second helper when nothing else is left (Dean & Ghemawat 2004,
"MapReduce: Simplified Data Processing on Large Clusters", section 3.6)."""
PATIENCE = 15.0
"""Seconds after which a scheduler that does not answer has gone."""
PART = 32 << 20
"""Bytes of a scene that are sent at once."""
SENDS = 8
"""Times that a scene is sent to a helper that keeps losing parts of it."""
log = logging.getLogger(__name__)


@dataclass
class _Seen:
    """A helper as it is seen from here. problem: why it is not used; sent: skeletons that it has; busy: that it is being asked or sent something."""

    address: str
    threads: int = 0
    name: str = ""
    problem: str = ""
    introduced: bool = False
    busy: bool = False
    sent: set[str] = field(default_factory=set)
    sends: int = 0
    tiles: int = 0


@dataclass
class _Out:
    """A task that is out."""

    address: str
    tiles: list[int]
    begun: float
    doubled: bool = False


class Cluster:
    """The helpers at a scheduler, as `Elsewhere`. `say` receives sentences: who joins, and who is not used and why. strict: use no helper with
    another processor, on which the last bits may differ."""

    def __init__(self, address: str, say: Callable[[str], None] = lambda sentence: None, strict: bool = False) -> None:
        check_scheduler(address, "client")
        self.say, self.strict = say, strict
        logging.getLogger("distributed").setLevel(logging.CRITICAL)
        try:
            self.client = Client(address, timeout=PATIENCE, set_as_default=False, name="sivrel")
        except (OSError, ValueError, TimeoutError) as error:
            raise InputError(f"There is no scheduler at {address} ({str(error)[:120]}); start one with `dask scheduler`.") from None
        self.mine, self.taker = helper.identity(), Taker()
        self.seen: dict[str, _Seen] = {}
        self.looked = self.heard = 0.0

    def close(self) -> None:
        self.client.close(timeout=2)

    def __enter__(self) -> "Cluster":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def render(self, job: TileJob, tiles: Sequence[int], before: dict[int, np.ndarray], cancel: Cancel, deliver: Deliver) -> None:
        """Render tiles of a job on the helpers, and deliver each once, until all are done, or cancelled, or no helper is left."""
        self._wait_for_one(cancel)
        if self.useful():
            _Call(self, job, tiles, before, cancel, deliver).run()

    def _wait_for_one(self, cancel: Cancel) -> None:
        """Wait until those that are there have introduced themselves, a few seconds at most."""
        until = time.monotonic() + 10.0
        self.look(now=True)
        while any(not one.introduced for one in self.seen.values()) and not self.useful() and time.monotonic() < until and not cancel.is_set():
            time.sleep(0.02)

    def useful(self) -> list[_Seen]:
        return [one for one in self.seen.values() if one.introduced and not one.problem]

    def look(self, now: bool = False) -> None:
        """See who came and who has gone."""
        if not now and time.monotonic() - self.looked < LOOK:
            return
        self.looked = time.monotonic()
        try:
            # (client.scheduler_info answers from a note that now and then names nobody.)
            there = set(self.client.sync(self.client.scheduler.identity, n_workers=-1, callback_timeout=PATIENCE)["workers"])
            self.heard = self.looked
        except Exception:
            if time.monotonic() - self.heard < PATIENCE:
                return
            there = set()
        for address in set(self.seen) - there:
            gone = self.seen.pop(address)
            if gone.introduced and not gone.problem:
                self.say(f"The helper {gone.name} ({address}) has gone; its tiles are given to others.")
        for address in there - set(self.seen):
            self.seen[address] = one = _Seen(address)
            self.in_background(self._introduce, one)

    def in_background(self, work: Callable[..., Any], *args: Any) -> None:
        """Do what may wait for ever for a helper that does not answer; the program may end meanwhile."""

        def run() -> None:
            try:
                work(*args)
            except Exception:
                log.info("A helper could not be asked.", exc_info=True)

        threading.Thread(target=run, daemon=True).start()

    def ask(self, address: str, function: Callable[..., Any], *args: Any) -> Any:
        return self.client.run(function, *args, workers=[address])[address]

    def _introduce(self, one: _Seen) -> None:
        try:
            its = self.ask(one.address, helper.introduce)
        except Exception as error:
            its, one.problem = {}, str(error)[:200]
        one.name, one.threads = its.get("name", one.address), its.get("threads", 0)
        if its and (its["version"], its["code"]) != (self.mine["version"], self.mine["code"]):
            one.problem = "runs another version of Sivrel, or of the packages that compile it; install the same there"
        elif its and its["processor"] != self.mine["processor"]:
            here, there = self.mine["processor"], its["processor"]
            if self.strict:
                one.problem = f"has another processor ({there}; here {here}), and only the same is wanted"
            else:
                self.say(f"The helper {one.name} has another processor ({there}; here {here}): last bits of its tiles may differ.")
        one.introduced = True
        if one.problem:
            self.say(f"The helper {one.name} is not used: it {one.problem}.")

    def leave_out(self, one: _Seen, problem: str) -> None:
        """Give a helper no tiles any more, and say why."""
        one.problem = problem
        self.say(f"The helper {one.name} is not used: it {problem}.")

    def send(self, one: _Seen, content: Content) -> None:
        """Send what a helper lacks of a job."""
        try:
            blobs = {**content.blobs, content.digest: memoryview(content.skeleton)}
            for digest in self.ask(one.address, helper.missing, list(blobs)):
                blob = blobs[digest]
                for start in range(0, max(len(blob), 1), PART):
                    self.ask(one.address, helper.keep, digest, bytes(blob[start : start + PART]), start + PART >= len(blob))
            one.sent.add(content.digest)
        except OSError as error:
            self.leave_out(one, f"could not keep the scene ({error.strerror or error})")
        except Exception as error:  # it has gone, or the connection has
            log.info("Sending to %s failed.", one.address, exc_info=True)
            self.leave_out(one, f"could not be sent the scene ({type(error).__name__}: {str(error)[:120]})")
        finally:
            one.busy = False


class _Call:
    """One call of `Cluster.render`."""

    def __init__(
        self, cluster: Cluster, job: TileJob, tiles: Sequence[int], before: dict[int, np.ndarray], cancel: Cancel, deliver: Deliver
    ) -> None:  # fmt: skip
        self.cluster, self.before, self.cancel, self.deliver = cluster, before, cancel, deliver
        self.content, self.name = cluster.taker.take_apart(job), uuid.uuid4().hex
        self.wanted, self.waiting, self.done = set(tiles), deque(tiles), set[int]()
        self.out: dict[Future[Any], _Out] = {}
        self.ended: queue.SimpleQueue[Future[Any]] = queue.SimpleQueue()
        self.tile_seconds = 0.0

    def run(self) -> None:
        helpers: set[str] = set()
        try:
            while len(self.done) < len(self.wanted) and not self.cancel.is_set():
                self.cluster.look()
                helpers |= {one.address for one in self.cluster.useful()}
                self._take_back_lost()
                if not self.cluster.useful() and not self.out:
                    return
                if not self.cancel.is_held():
                    self._hand_out()
                self._receive()
        finally:
            for future in self.out:
                future.cancel()
            over = helper.call_off if self.out else helper.end
            for address in helpers & set(self.cluster.seen):
                self.cluster.in_background(self.cluster.ask, address, over, self.name)

    def _take_back_lost(self) -> None:
        useful = {one.address for one in self.cluster.useful()}
        for future, out in list(self.out.items()):
            if out.address not in useful:
                del self.out[future]
                future.cancel()
                self._again(out)

    def _again(self, out: _Out) -> None:
        elsewhere = {tile for other in self.out.values() for tile in other.tiles}
        self.waiting.extendleft(tile for tile in reversed(out.tiles) if tile not in self.done and tile not in elsewhere)

    def _hand_out(self) -> None:
        """Give every helper as much as it has threads for, and a little more."""
        useful = self.cluster.useful()
        threads = sum(one.threads for one in useful)
        # The fastest way to end is to give each one task first.
        for round_ in range(max((one.threads for one in useful), default=0) + AHEAD):
            for one in useful:
                if self.content.digest not in one.sent:
                    if not one.busy:
                        one.busy = True
                        one.sends += 1
                        self.cluster.in_background(self.cluster.send, one, self.content)
                    continue
                held = sum(out.address == one.address for out in self.out.values())
                if held > round_ or held >= one.threads + AHEAD:
                    continue
                tiles = self._next(threads) or (self._late(one) if held < one.threads else [])
                if tiles:
                    self._give(one, tiles)

    def _next(self, threads: int) -> list[int]:
        """The next tiles: as many as take TASK_SECONDS, but fewer near the end, so that all helpers end together."""
        count = int(TASK_SECONDS / self.tile_seconds) if self.tile_seconds > 0.0 else 1
        count = max(1, min(count, MOST_TILES, len(self.waiting) // (2 * max(1, threads))))
        return [self.waiting.popleft() for _ in range(min(count, len(self.waiting)))]

    def _late(self, one: _Seen) -> list[int]:
        """Tiles that another helper has had for long."""
        usual = max(self.tile_seconds, 0.05)
        for out in self.out.values():
            late = time.monotonic() - out.begun > LATE * usual * len(out.tiles) * (1 + AHEAD) + 1.0
            if out.address != one.address and not out.doubled and late:
                out.doubled = True
                return [tile for tile in out.tiles if tile not in self.done]
        return []

    def _give(self, one: _Seen, tiles: list[int]) -> None:
        before = {tile: self.before[tile] for tile in tiles if tile in self.before}
        future = self.cluster.client.submit(
            helper.render_some, self.content.digest, self.name, tiles, before, key=f"tiles-{uuid.uuid4().hex}", workers=[one.address],
            allow_other_workers=False, pure=False,
        )  # fmt: skip
        self.out[future] = _Out(one.address, tiles, time.monotonic())
        future.add_done_callback(self.ended.put)

    def _receive(self) -> None:
        """Wait for a task that ends, a moment at most, and take what it brings."""
        try:
            future = self.ended.get(timeout=LOOK)
        except queue.Empty:
            return
        out = self.out.pop(future, None)
        if out is None:
            return
        sender = self.cluster.seen.get(out.address)
        found = self._found(future, sender)
        future.release()
        if sender is not None:
            sender.tiles += len(found)
        for one in found:
            self.tile_seconds = one.seconds if self.tile_seconds == 0.0 else 0.8 * self.tile_seconds + 0.2 * one.seconds
            if one.tile not in self.done:
                self.done.add(one.tile)
                add_work(one.seconds / max(1, sum(each.threads for each in self.cluster.useful())))
                self.deliver(one.tile, one.film, one.clock)
        if len(found) < len(out.tiles) and not self.cancel.is_set():
            self._again(out)

    def _found(self, future: "Future[Any]", one: _Seen | None) -> list[helper.Rendered]:
        """What a task has brought: nothing if it failed."""
        try:
            found: list[helper.Rendered] = future.result()
            return found
        except Missing:
            if one is not None:
                one.sent.discard(self.content.digest)
                if one.sends >= SENDS:
                    self.cluster.leave_out(one, "keeps losing the scene; give its folder more room")
        except Exception as error:  # it has gone, or something is wrong there
            if future.status != "cancelled" and one is not None:
                self.cluster.leave_out(one, f"failed ({type(error).__name__}: {str(error)[:120]})")
        return []


def check_address(address: str) -> tuple[str, int]:
    """The host and port of a scheduler. Raises InputError if the address can't be used: other machines are reached by TLS only."""
    parts = urlsplit(address if "://" in address else f"tcp://{address}")
    try:
        host, port = parts.hostname, parts.port
    except ValueError:
        host, port = None, None
    if parts.scheme not in ("tcp", "tls") or not host or port is None:
        raise InputError(f"{address} is no address of a scheduler; give one like tls://render1:8786.")
    if parts.scheme == "tcp" and host not in ("127.0.0.1", "localhost", "::1"):
        raise InputError(f"The scheduler {address} is not on this machine: give its address as tls://, with certificates (docs/cluster.md).")
    return host, port


def check_scheduler(address: str, role: Literal["client", "worker"]) -> None:
    """Raise InputError if nobody listens at an address, or it can't be used: where it is reached by TLS, the `role` needs certificates."""
    if address.startswith("tls://") and Security().get_connection_args(role).get("ssl_context") is None:
        raise InputError(f"The scheduler {address} is reached by TLS, and no certificates are configured here; docs/cluster.md says how.")
    try:
        socket.create_connection(check_address(address), timeout=PATIENCE).close()
    except OSError as error:
        raise InputError(f"There is no scheduler at {address} ({error.strerror or error}); start one with `dask scheduler`.") from None
