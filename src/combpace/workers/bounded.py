"""A reader of files from elsewhere, in a process of its own, with so much memory and time and no more."""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Any, TypeVar

from combpace.core.errors import CombPaceError, ParameterError
from combpace.machine import limit_memory, limit_processor, starting
from combpace.workers.backend import watch

Value = TypeVar("Value")
# Processor seconds that a reader may take, and by the clock, where the machine has other things to do.
MOST_S, BY_THE_CLOCK_S = 5, 20.0
MOST_BYTES = 1_500_000_000


def bounded(what: str, function: Callable[..., Value], *args: Any) -> Value:
    """What a function of plain arguments returns, done in a process of its own.

    what    what is read, for a sentence: "This archive"
    Raises  ParameterError in a sentence where it takes more than MOST_S processor seconds or MOST_BYTES of
            memory; and what the function raises
    """
    context = starting(None)
    here, there = context.Pipe(duplex=False)
    process = context.Process(target=_run, args=(there, function, args, os.getpid()), daemon=True)
    process.start()
    there.close()
    try:
        if not here.poll(BY_THE_CLOCK_S):
            raise _too_much(what)
        good, value = here.recv()
    except EOFError:
        # It was ended: by its own limits, or for want of memory.
        raise _too_much(what) from None
    finally:
        here.close()
        process.kill()
        process.join(timeout=5)
    if not good:
        raise value
    found: Value = value
    return found


def _too_much(what: str) -> ParameterError:
    return ParameterError(
        f"{what} takes more time or memory to read than any that people make. Nothing was imported."
    )


def _run(pipe: Connection, function: Callable[..., Any], args: tuple[Any, ...], parent: int) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=watch, args=(parent,), daemon=True).start()
    limit_memory(MOST_BYTES)
    limit_processor(MOST_S)
    try:
        said: tuple[bool, Any] = True, function(*args)
    except MemoryError:
        os._exit(1)
    except CombPaceError as error:
        said = False, error
    except Exception as error:
        said = False, ParameterError(f"This cannot be read ({type(error).__name__}). Nothing was imported.")
    try:
        pipe.send(said)
    except MemoryError:
        os._exit(1)
