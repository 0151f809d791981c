"""Imported by a fork server alone: it ends with the process that started it, however that ends.

Left alone a fork server lives on as long as anything it started holds its pipe.
"""

from __future__ import annotations

import os
import threading
import time

LOOK_S = 0.5


def _watch(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(LOOK_S)
    os._exit(0)


threading.Thread(target=_watch, args=(os.getppid(),), daemon=True, name="guard").start()
