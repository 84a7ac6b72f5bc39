"""Helpers at a Dask scheduler, which do parts of work as long as any is there."""

import asyncio
import logging
import platform
import socket
import threading
import time
from collections.abc import Callable, Mapping
from concurrent.futures import Future
from typing import Any, Literal
from urllib.parse import urlsplit

from distributed import Client, Security
from distributed.protocol import to_serialize

from ..core.errors import InputError
from ..core.spread import Deliver, Work
from ..core.task import Task
from . import helper
from .call import Call
from .content import Content, Taker
from .members import AGAIN, LOOK, Member

PATIENCE = 15.0
"""Seconds after which a scheduler that does not answer has gone."""
PART = 32 << 20
"""Bytes of a scene that are sent at once."""
FEWEST = 2
"""Parts from which work is given away: a single one is done as fast here."""
log = logging.getLogger(__name__)


class Cluster:
    """The helpers at a scheduler, as `Elsewhere`. Thread-safe. `say` receives sentences: who has gone, and who is not used and why. strict: use no
    helper with another processor, on which the last bits may differ."""

    def __init__(self, address: str, say: Callable[[str], None] = lambda sentence: None, strict: bool = False) -> None:
        check_scheduler(address, "client")
        self.address, self.say, self.strict = address, say, strict
        logging.getLogger("distributed").setLevel(logging.CRITICAL)
        try:
            self.client = Client(address, timeout=PATIENCE, set_as_default=False, name="sivrel")
        except (OSError, ValueError, TimeoutError) as error:
            raise InputError(f"There is no scheduler at {address} ({str(error)[:120]}); start one with `dask scheduler`.") from None
        self.mine, self.taker, self.lock = helper.identity(), Taker(), threading.RLock()
        self.members: dict[str, Member] = {}
        self.looked = 0.0
        self.heard = time.monotonic()
        self.parts = 0

    def close(self) -> None:
        self.client.close(timeout=2)

    def __enter__(self) -> "Cluster":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def threads(self) -> int:
        return sum(one.threads for one in self.useful())

    def where(self) -> str:
        count = len(self.useful())
        return f"{count} helper{'' if count == 1 else 's'}"

    def do(self, work: Work, parts: Mapping[int, Any], task: Task, deliver: Deliver) -> None:
        """Do parts of a work on the helpers, and deliver each once, until all are done, or cancelled, or no helper is left."""
        if len(parts) < FEWEST:
            return
        self._wait_for_one(task)
        if self.useful():
            with self.lock:
                content = self.taker.take_apart(work)
            Call(self, content, type(work).__name__, parts, task, deliver).run()

    def _wait_for_one(self, task: Task) -> None:
        """Wait until those that are there have introduced themselves, a few seconds at most."""
        until = time.monotonic() + 10.0
        self.look(now=True)
        while any(not one.introduced for one in self.members.values()) and not self.useful():
            if time.monotonic() > until or task.cancel.is_set():
                break
            time.sleep(0.02)

    def useful(self) -> list[Member]:
        return [one for one in list(self.members.values()) if one.introduced and not one.problem]

    def answers(self) -> bool:
        """Whether the scheduler has answered lately."""
        return time.monotonic() - self.heard < PATIENCE

    def look(self, now: bool = False) -> None:
        """See who came and who has gone."""
        with self.lock:
            if now or time.monotonic() - self.looked > LOOK:
                self.looked = time.monotonic()
                self._look()

    def _look(self) -> None:
        try:
            # (client.scheduler_info answers from a note that now and then names nobody.)
            there = self.client.sync(self.client.scheduler.identity, n_workers=-1, callback_timeout=PATIENCE)["workers"]
            self.heard = self.looked
        except Exception:
            if self.answers():
                return
            there = {}
        for address in set(self.members) - set(there):
            gone = self.members.pop(address)
            if gone.introduced and not gone.problem:
                self.say(f"The helper {gone.name} ({address}) has gone; its work is given to others.")
        for address, its in there.items():
            if address not in self.members:
                self.members[address] = Member(address)
                self.in_background(self._introduce, self.members[address])
            one, metrics = self.members[address], its.get("metrics") or {}
            one.memory, one.most_memory = int(metrics.get("memory", 0)), int(its.get("memory_limit") or 0)
            one.load = float(metrics.get("cpu", 0.0)) / 100.0 / max(1, one.threads)
            if one.problem and 0.0 < one.until < self.looked:
                one.until = 0.0
                self.in_background(self._introduce, one)

    def in_background(self, work: Callable[..., Any], *args: Any) -> None:
        """Do what may wait for ever for a helper that does not answer; the program may end meanwhile."""

        def run() -> None:
            try:
                work(*args)
            except Exception:
                log.info("A helper could not be asked.", exc_info=True)

        threading.Thread(target=run, daemon=True).start()

    def asking(self, address: str, what: str, *args: Any) -> "Future[Any]":
        """A question to a helper, straight to it: a method of `helper.Answers`."""

        async def answer() -> Any:
            return await self.client.rpc(address).sivrel(what=what, args=to_serialize(args))

        return asyncio.run_coroutine_threadsafe(answer(), self.client.loop.asyncio_loop)

    def ask(self, address: str, what: str, *args: Any, timeout: float | None = None) -> Any:
        return self.asking(address, what, *args).result(timeout)

    def _introduce(self, one: Member) -> None:
        one.problem, its = self._asked_what_it_is(one)
        one.name, one.threads = its.get("name", one.address), its.get("threads", 0)
        one.here = one.name == platform.node()
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

    def _asked_what_it_is(self, one: Member) -> tuple[str, dict[str, Any]]:
        """What a helper answers, or why it is none."""
        try:
            its = self.ask(one.address, "introduce", timeout=PATIENCE)
        except Exception as error:
            log.info("%s did not say what it is.", one.address, exc_info=True)
            one.until = time.monotonic() + AGAIN
            return f"can't be reached from here ({str(error)[:120] or 'no answer'})", {}
        return ("", its) if its is not None else ("is a Dask worker, but no helper of Sivrel; start `sivrel helper` there", {})

    def leave_out(self, one: Member, problem: str) -> None:
        """Give a helper nothing for a while, and say why."""
        one.problem, one.until = problem, time.monotonic() + AGAIN
        self.say(f"The helper {one.name} is not used: it {problem}.")

    def count(self, one: Member, kind: str, seconds: float, parts: int) -> None:
        """Count what a task has brought."""
        with self.lock:
            self.parts += parts
            before = one.took.get(kind, (0, 0.0))
            one.took[kind] = before[0] + parts, before[1] + seconds

    def send(self, one: Member, content: Content) -> None:
        """Send what a helper lacks of a work."""
        try:
            for digest in self.ask(one.address, "begin", content.digest, content.skeleton, list(content.blobs)):
                blob = content.blobs[digest]
                for start in range(0, max(len(blob), 1), PART):
                    self.ask(one.address, "keep", digest, bytes(blob[start : start + PART]), start + PART >= len(blob))
            one.sent.add(content.digest)
        except OSError as error:
            self.leave_out(one, f"could not keep the scene ({error.strerror or error})")
        except Exception as error:  # it has gone, or the connection has
            log.info("Sending to %s failed.", one.address, exc_info=True)
            self.leave_out(one, f"could not be sent the scene ({type(error).__name__}: {str(error)[:120]})")
        finally:
            one.busy = False


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


def check_use(address: str, role: Literal["client", "worker"]) -> None:
    """Raise InputError if an address can't be used: where it is reached by TLS, the `role` needs certificates."""
    check_address(address)
    if address.startswith("tls://") and Security().get_connection_args(role).get("ssl_context") is None:
        raise InputError(f"The scheduler {address} is reached by TLS, and no certificates are configured here; docs/cluster.md says how.")


def check_scheduler(address: str, role: Literal["client", "worker"]) -> None:
    """Raise InputError if nobody listens at an address, or it can't be used."""
    check_use(address, role)
    try:
        socket.create_connection(check_address(address), timeout=PATIENCE).close()
    except OSError as error:
        raise InputError(f"There is no scheduler at {address} ({error.strerror or error}); start one with `dask scheduler`.") from None
