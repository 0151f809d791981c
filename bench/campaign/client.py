"""A client that counts what must not be."""

from __future__ import annotations

import http.client
import json
import time
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote, urlsplit

QUICK_S, SOUND_S = 2.0, 5.0
# Answers that say, in a sentence, that the disk is full or the machine is busy.
SENTENCES = (503, 507)


@dataclass
class Count:
    """What must be zero; slowest, in seconds; said: what went wrong, for whoever looks."""

    lost: int = 0
    faults: int = 0
    slow: int = 0
    orphans: int = 0
    processes: int = 0
    slowest: float = 0.0
    said: list[str] = field(default_factory=list)

    def bad(self, *, timed: bool = True) -> bool:
        """Whether anything is not zero; timed: slow calls count too."""
        wrong = self.lost or self.faults or self.orphans or self.processes
        return bool(wrong or (timed and self.slow))


class Client:
    """Requests to one server, one after the other."""

    def __init__(self, address: str, count: Count) -> None:
        self.count = count
        self.move(address)

    def move(self, address: str) -> None:
        """The server answers elsewhere now."""
        self._place = urlsplit(address).netloc

    def ask(
        self,
        method: str,
        path: str,
        body: Any = None,
        ok: tuple[int, ...] | None = (200,),
        most_s: float | None = None,
    ) -> Any:
        """JSON where it is JSON, else bytes. ok: statuses that are no surprise; None: any but a fault. Raises
        OSError where nobody answers.
        """
        most = most_s or (SOUND_S if "/sound?" in path else QUICK_S)
        begun = time.monotonic()
        connection = http.client.HTTPConnection(self._place, timeout=60)
        data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
        try:
            connection.request(
                method, quote(path, safe="/?&=%{}.-_~+:,"), data, {"content-type": "application/json"}
            )
            answer = connection.getresponse()
            status, content = answer.status, answer.read()
        except http.client.HTTPException as error:
            raise OSError(str(error)) from error
        finally:
            connection.close()
        took = time.monotonic() - begun
        self.count.slowest = max(self.count.slowest, took)
        # Files take as long as they take; what is only asked for does not.
        if took > most and method != "PUT":
            self.count.slow += 1
            self.count.said.append(f"slow: {took:.1f} s {method} {path[:120]}")
        if status >= 500 and status not in SENTENCES:
            self.count.faults += 1
            self.count.said.append(f"{status}: {method} {path[:120]} {str(body)[:300]} {content[:160]!r}")
        elif ok is not None and status not in ok:
            self.count.lost += 1
            self.count.said.append(f"{status}: {method} {path[:120]} {str(body)[:200]} {content[:200]!r}")
        self.last, self.body = status, content
        try:
            return json.loads(content)
        except ValueError:
            return content

    def raw(self, path: str) -> tuple[int, bytes]:
        """(status, bytes) of an address, as they come."""
        self.ask("GET", path, None, (200, 409, 503))
        return self.last, self.body

    def get(self, path: str) -> Any:
        return self.ask("GET", path)

    def post(self, path: str, body: Any, ok: tuple[int, ...] | None = (200,)) -> Any:
        return self.ask("POST", path, body, ok)

    def put(self, path: str, data: bytes, ok: tuple[int, ...] | None = (200,)) -> Any:
        return self.ask("PUT", path, data, ok)

    def text(self, path: str) -> str:
        found = self.ask("GET", path)
        return found.decode() if isinstance(found, bytes) else str(found)

    def status(self, path: str, most_s: float | None = None) -> int:
        self.ask("GET", path, None, None, most_s)
        return self.last
