"""Work on many things at once: in processes of this machine, or on the workers of a cluster. Nothing that one of them does stops the others.

Few are handed out ahead, so that what waits needs no memory, and what comes back is told in the order in which it is done.
"""

from __future__ import annotations

import multiprocessing
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from typing import Any, TypeVar

from ..errors import HushedError
from ..extras import wanted

__all__ = ["on_cluster", "on_this_machine"]

Thing = TypeVar("Thing")
Result = TypeVar("Result")
AHEAD = 4  # things for each worker that are handed out


def on_this_machine(
    look: Callable[[Thing], Result], things: Iterable[Thing], workers: int, lost: Callable[[Thing], Result]
) -> Iterator[Result]:
    """What `look` makes of each thing, as it is done. lost: what is said of a thing whose worker ended, as when memory runs out.

    A worker that ends takes the others of its pool with it: what they had in hand is looked at again, one by one, so that only the
    thing that did it is lost.
    """
    if workers < 2:
        yield from map(look, things)
        return
    waiting, suspects = deque(things), deque[Thing]()
    while waiting or suspects:
        alone = bool(suspects)
        queue, room = (suspects, 1) if alone else (waiting, AHEAD * workers)
        with ProcessPoolExecutor(1 if alone else workers, multiprocessing.get_context("spawn")) as pool:
            handed: dict[Future[Result], Thing] = {}
            try:
                while queue or handed:
                    while queue and len(handed) < room:
                        thing = queue.popleft()
                        handed[pool.submit(look, thing)] = thing
                    for done in wait(handed, return_when=FIRST_COMPLETED).done:
                        yield done.result()
                        del handed[done]
            except BrokenProcessPool:
                broken = [thing for future, thing in handed.items() if not future.done() or future.exception() is not None]
                yield from (future.result() for future in handed if future.done() and future.exception() is None)
                if alone:
                    yield from map(lost, broken)
                else:
                    suspects.extend(broken)


def on_cluster(
    look: Callable[[Thing], Result], things: Iterable[Thing], address: str, lost: Callable[[Thing], Result]
) -> Iterator[Result]:
    """The same on the workers of a cluster whose scheduler is at an address like tcp://10.0.0.5:8786. They see files under the same names.

    Raises HushedError where the scheduler cannot be reached, or its package is not installed.
    """
    with wanted("dask[distributed]", "a cluster wants", "--cluster"):
        from distributed import Client, as_completed
    try:
        client: Any = Client(address, timeout="5s", set_as_default=False)
    except (OSError, ValueError, TimeoutError) as error:
        raise HushedError(
            f"no scheduler answers at {address}", where="--cluster", remedy="start one, and name it like tcp://10.0.0.5:8786"
        ) from error
    with client:
        queue = deque(things)
        handed: dict[Any, Thing] = {}
        flow: Any = as_completed(loop=client.loop)

        def hand_out() -> None:
            room = AHEAD * max(1, len(client.nthreads()))
            while queue and len(handed) < room:
                thing = queue.popleft()
                future = client.submit(look, thing, pure=False)
                handed[future.key] = thing
                flow.add(future)

        hand_out()
        for future in flow:
            thing = handed.pop(future.key)
            yield future.result() if future.status == "finished" else lost(thing)
            hand_out()
