"""Handing out the parts of one work to helpers, until all are done."""

import logging
import queue
import time
import uuid
from collections import Counter, deque
from collections.abc import Mapping
from concurrent.futures import CancelledError, Future
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from ..core.spread import Deliver
from ..core.task import Task
from ..core.work_time import add_work
from . import helper
from .content import Content
from .content_folder import Missing
from .members import LOOK, Member

if TYPE_CHECKING:
    from .cluster import Cluster

TASK_SECONDS, MOST_PARTS = 0.5, 64
"""How long a task should take, and the most parts in one."""
AHEAD = 1
"""Tasks that wait at a helper besides those that run, so that it never waits for the next."""
LATE = 3.0
"""A task that takes this many times as long as one usually does is given to a second helper when nothing else is left (Dean & Ghemawat 2004,
"MapReduce: Simplified Data Processing on Large Clusters", section 3.6)."""
FRESH = 0.2
"""Weight of a new measurement of what a part takes."""
SENDS = 8
"""Times that a work is sent to a helper that keeps losing parts of it."""
log = logging.getLogger(__name__)


@dataclass
class _Out:
    """A task that is out."""

    address: str
    parts: list[int]
    begun: float
    doubled: bool = False


class Call:
    """Hands out the parts of one work, given by number."""

    def __init__(self, cluster: "Cluster", content: Content, kind: str, parts: Mapping[int, Any], task: Task, deliver: Deliver) -> None:
        self.cluster, self.content, self.kind, self.task, self.deliver = cluster, content, kind, task, deliver
        self.name, self.given = uuid.uuid4().hex, dict(parts)
        self.waiting, self.done = deque(parts), set[int]()
        self.out: dict[Future[Any], _Out] = {}
        self.ended: queue.SimpleQueue[Future[Any] | None] = queue.SimpleQueue()
        self.has: Counter[str] = Counter()
        """Tasks that each helper has."""
        self.there, self.were_there = set[str](), set[str]()
        self.sends: dict[str, int] = {}
        self.usual = 0.0
        """Seconds of the processor for a part; 0 as long as none is done."""

    def run(self) -> None:
        """Until all parts are delivered, or the task is cancelled, or no helper is left."""
        try:
            while len(self.done) < len(self.given) and not self.task.cancel.is_set():
                self.cluster.look()
                useful = self.cluster.useful()
                self._take_back_lost(useful)
                if not useful and not self.out:
                    return
                self._hand_out(useful)
                self._receive()
        finally:
            for future, out in self.out.items():
                future.cancel()
                self._left(out)
            over = "call_off" if self.out else "end"
            for address in self.were_there & set(self.cluster.members):
                self.cluster.in_background(self.cluster.ask, address, over, self.name)

    def _left(self, out: _Out) -> None:
        """A task is no longer out."""
        self.has[out.address] -= 1
        one = self.cluster.members.get(out.address)
        if one is not None:
            one.out -= 1

    def _take_back_lost(self, useful: list[Member]) -> None:
        there = {one.address for one in useful}
        if there == self.there:
            return
        self.there = there
        self.were_there |= there
        for future, out in list(self.out.items()):
            if out.address not in there:
                del self.out[future]
                future.cancel()
                self._left(out)
                self._again(out)

    def _again(self, out: _Out) -> None:
        elsewhere = {part for other in self.out.values() for part in other.parts}
        self.waiting.extendleft(part for part in reversed(out.parts) if part not in self.done and part not in elsewhere)
        one = self.cluster.members.get(out.address)
        if one is not None:
            one.lost += 1

    def _hand_out(self, useful: list[Member]) -> None:
        """Give every helper as much as it has threads for, and a little more. While the task is paused, those on this machine get none."""
        held, threads = self.task.cancel.is_held(), sum(one.threads for one in useful)
        able = [one for one in useful if self._knows(one) and not (held and one.here)]
        # The fastest way to end is to give each one task first.
        while able := [one for one in able if self.has[one.address] < one.threads + AHEAD]:
            fewest, given = min(self.has[one.address] for one in able), False
            for one in able:
                if self.has[one.address] == fewest:
                    parts = self._next(threads) or (self._late(one) if fewest < one.threads else [])
                    if parts:
                        self._give(one, parts)
                        given = True
            if not given:
                return

    def _knows(self, one: Member) -> bool:
        """Whether a helper knows the work; it is sent there if not."""
        if self.content.digest in one.sent:
            return True
        if not one.busy:
            one.busy = True
            self.sends[one.address] = self.sends.get(one.address, 0) + 1
            self.cluster.in_background(self._send, one)
        return False

    def _send(self, one: Member) -> None:
        self.cluster.send(one, self.content)
        self.ended.put(None)  # so that it gets its first parts at once

    def _next(self, threads: int) -> list[int]:
        """The next parts: as many as take TASK_SECONDS, but fewer near the end, so that all helpers end together."""
        count = int(TASK_SECONDS / self.usual) if self.usual > 0.0 else 1
        count = max(1, min(count, MOST_PARTS, len(self.waiting) // (2 * max(1, threads))))
        return [self.waiting.popleft() for _ in range(min(count, len(self.waiting)))]

    def _late(self, one: Member) -> list[int]:
        """Parts that another helper has had for long."""
        usual = max(self.usual, 0.05)
        for out in self.out.values():
            late = time.monotonic() - out.begun > LATE * usual * len(out.parts) * (1 + AHEAD) + 1.0
            if out.address != one.address and not out.doubled and late:
                out.doubled = True
                return [part for part in out.parts if part not in self.done]
        return []

    def _give(self, one: Member, parts: list[int]) -> None:
        future = self.cluster.asking(one.address, "do_some", self.content.digest, self.name, {part: self.given[part] for part in parts})
        self.out[future] = _Out(one.address, parts, time.monotonic())
        self.has[one.address] += 1
        one.out += 1
        one.does = self.kind
        future.add_done_callback(self.ended.put)

    def _receive(self) -> None:
        """Wait for a task that ends, a moment at most, and take what it brings."""
        try:
            future = self.ended.get(timeout=LOOK)
        except queue.Empty:
            return
        out = self.out.pop(future, None) if future is not None else None
        if future is None or out is None:
            return
        self._left(out)
        sender = self.cluster.members.get(out.address)
        found = self._found(future, sender)
        if sender is not None and found:
            self.cluster.count(sender, self.kind, sum(one.seconds for one in found), len(found))
        threads = self.cluster.threads()
        for one in found:
            self.usual = one.seconds if self.usual == 0.0 else (1.0 - FRESH) * self.usual + FRESH * one.seconds
            if one.part not in self.done:
                self.done.add(one.part)
                add_work(one.seconds, threads)
                self.deliver(one.part, one.result)
        if len(found) < len(out.parts) and not self.task.cancel.is_set():
            self._again(out)

    def _found(self, future: "Future[Any]", one: Member | None) -> list[helper.Done]:
        """What a task has brought: nothing if it failed."""
        try:
            found: list[helper.Done] = future.result()
            return found
        except Missing:
            if one is not None:
                one.sent.discard(self.content.digest)
                if self.sends.get(one.address, 0) >= SENDS:
                    self.cluster.leave_out(one, "keeps losing the scene; give its folder more room")
        except CancelledError:
            pass
        except OSError:  # the connection is gone, mostly because it is
            if one is not None:
                self.cluster.leave_out(one, "does not answer any more; its work is given to others")
        except Exception as error:  # something is wrong there
            if one is not None:
                self.cluster.leave_out(one, f"failed ({type(error).__name__}: {str(error)[:120]})")
        return []
