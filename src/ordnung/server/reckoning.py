"""Long computations in a process of their own: while one is worked out, every other answer is as quick as ever.

The web process answers in threads of one interpreter: a second of arithmetic there is a second in which hundreds of
short answers get a part of their time. One process is kept for it, started when it is needed first.
"""

from __future__ import annotations

import multiprocessing
import os
import threading
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from functools import partial
from typing import ParamSpec, TypeVar

LOOK_S = 1.0
P = ParamSpec("P")
T = TypeVar("T")
_lock = threading.Lock()
_pool: ProcessPoolExecutor | None = None
_is_apart = False


def reckon_apart() -> None:
    """From now on ``reckon`` computes in the process of its own; before, and in tests, where it is called."""
    global _is_apart
    _is_apart = True


def reckon(function: Callable[P, T], /, *args: P.args, **kwargs: P.kwargs) -> T:
    """What ``function``, one of a module, returns or raises. Its arguments and its answer are copied between processes.

    Should that process be ended by somebody, it is computed here after all.
    """
    if not _is_apart:
        return function(*args, **kwargs)
    try:
        return _reckoner().submit(_closing, partial(function, *args, **kwargs)).result()
    except BrokenProcessPool:
        _forget()
        return function(*args, **kwargs)


def _reckoner() -> ProcessPoolExecutor:
    global _pool
    with _lock:
        if _pool is None:
            spawn = multiprocessing.get_context("spawn")
            _pool = ProcessPoolExecutor(1, spawn, initializer=_set_up, initargs=(os.getpid(),))
        return _pool


def _forget() -> None:
    global _pool
    with _lock:
        _pool = None


def _set_up(parent: int) -> None:
    """In the new process: it knows the site as the web process does, and ends with it, however that ends."""
    import django

    from ordnung.formats.logs import configure_logs

    configure_logs()
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()
    os.nice(5)
    django.setup()


def _end_with(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(LOOK_S)
    os._exit(0)


def _closing(work: Callable[[], T]) -> T:
    from django.db import connection

    try:
        return work()
    finally:
        connection.close()
