"""What every request passes: known host names, same origin for what changes things, headers that keep pages
to themselves.
"""

from __future__ import annotations

import asyncio
import json
import logging
import time
from urllib.parse import urlsplit
from weakref import WeakKeyDictionary

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import JSONResponse, PlainTextResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

# Whatever is no file is short, and comes at once.
MOST_BODY_BYTES, MOST_BODY_S = 2**20, 30.0
# Addresses that take files, as they are: these look after their lengths themselves.
LOG = logging.getLogger("combpace.requests")
FILES = ("/uploads", "/archives", "/map-file")
SAFE = ("GET", "HEAD", "OPTIONS")
# So many requests that change something are worked on at a time, of the forty threads there are: where they
# wait for the database, pages that only read do not wait behind them. Others wait so long for their turn.
WRITERS, MOST_WAIT_S = 12, 10.0
# What is posted and changes nothing.
ONLY_READ = ("/hand-off/plan", "/taps")
BUSY = "Many changes are being kept just now. This one was not made and nothing is lost; do it again."
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src "
    "'self'; connect-src 'self'; "
    "media-src 'self' blob:; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), geolocation=(), microphone=()",
}


def host_of(value: str) -> str:
    """The name in a Host header or an origin, without its port; "" where it cannot be read."""
    try:
        name = urlsplit(f"//{value}").hostname or ""
    except ValueError:
        return ""
    return f"[{name}]" if ":" in name else name


class Guard:
    """ASGI middleware."""

    def __init__(self, app: ASGIApp, hosts: tuple[str, ...]) -> None:
        self._app = app
        self._hosts = {host.lower() for host in hosts}
        self._turns: WeakKeyDictionary[asyncio.AbstractEventLoop, asyncio.Semaphore] = WeakKeyDictionary()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        begun = time.monotonic()
        refusal = self._refusal(scope)
        if refusal:
            LOG.info("%s %s refused: %d", scope["method"], scope["path"], refusal[0])
            await PlainTextResponse(refusal[1], refusal[0])(scope, receive, send)
            return

        async def guarded(message: Message) -> None:
            if message["type"] == "http.response.start":
                _logged(scope, message["status"], time.monotonic() - begun)
                headers = MutableHeaders(scope=message)
                for name, value in HEADERS.items():
                    headers.setdefault(name, value)
                headers.setdefault("Cache-Control", "no-store")
            await send(message)

        if scope["method"] in SAFE or scope["path"].endswith(FILES):
            await self._app(scope, receive, guarded)
            return
        try:
            async with asyncio.timeout(MOST_BODY_S):
                body = await _body(receive)
        except TimeoutError:
            await JSONResponse(
                {"error": f"This request did not come within {MOST_BODY_S:.0f} s. Nothing was changed."}, 408
            )(scope, receive, guarded)
            return
        if body is None:
            return
        said = _unfit(body)
        if said:
            await JSONResponse({"error": said[1]}, said[0])(scope, receive, guarded)
            return
        if scope["path"].endswith(ONLY_READ) or "/foresee/" in scope["path"]:
            await self._with_body(scope, body, receive, guarded)
            return
        turn = self._turn()
        try:
            async with asyncio.timeout(MOST_WAIT_S):
                await turn.acquire()
        except TimeoutError:
            await JSONResponse({"error": BUSY}, 503)(scope, receive, guarded)
            return
        try:
            await self._with_body(scope, body, receive, guarded)
        finally:
            turn.release()

    def _turn(self) -> asyncio.Semaphore:
        """What lets so many changes in at a time, one for each event loop."""
        loop = asyncio.get_running_loop()
        if loop not in self._turns:
            self._turns[loop] = asyncio.Semaphore(WRITERS)
        return self._turns[loop]

    async def _with_body(self, scope: Scope, body: bytes, receive: Receive, send: Send) -> None:
        messages: list[Message] = [{"type": "http.request", "body": body, "more_body": False}]

        async def again() -> Message:
            return messages.pop() if messages else await receive()

        await self._app(scope, again, send)

    def _refusal(self, scope: Scope) -> tuple[int, str] | None:
        headers = Headers(scope=scope)
        host = headers.get("host", "")
        if host_of(host).lower() not in self._hosts:
            return (
                400,
                "This host name is not one that this server answers to. Set COMBPACE_HOSTS to allow it.",
            )
        if "\x00" in scope["path"] or b"%00" in scope.get("raw_path", b""):
            return 400, "This address holds a character that no address has."
        if scope["method"] in SAFE:
            return None
        origin = headers.get("origin")
        if headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none"):
            return 403, "Changes are only taken from this application's own pages. Nothing was changed."
        if origin is not None and urlsplit(origin).netloc.lower() != host.lower():
            return 403, "Changes are only taken from this application's own pages. Nothing was changed."
        return None


def _logged(scope: Scope, status: int, took_s: float) -> None:
    """A line a request; what is asked for again and again while one listens is for whoever debugs."""
    often = scope["path"].startswith("/static/") or scope["path"].endswith(("/sound", "/peaks"))
    level = logging.WARNING if status >= 500 else logging.DEBUG if often else logging.INFO
    LOG.log(level, "%s %s %d, %.0f ms", scope["method"], scope["path"], status, 1000 * took_s)


async def _body(receive: Receive) -> bytes | None:
    """All of it, or a little more than may come; None where whoever asked has gone."""
    parts, size = [], 0
    while size <= MOST_BODY_BYTES:
        message = await receive()
        if message["type"] == "http.disconnect":
            return None
        parts.append(message.get("body", b""))
        size += len(parts[-1])
        if not message.get("more_body"):
            break
    return b"".join(parts)


def _unfit(body: bytes) -> tuple[int, str] | None:
    if len(body) > MOST_BODY_BYTES:
        return (
            413,
            f"This request is larger than {MOST_BODY_BYTES // 2**20} MiB, which nothing but a file "
            "is. Nothing was changed.",
        )
    if b"\\ud" in body.lower():
        try:
            # Half of a pair of surrogates is no character (RFC 8259, 8.2): nothing could write it down.
            json.dumps(json.loads(body), ensure_ascii=False).encode()
        except UnicodeEncodeError:
            return 422, "A text in this request holds a broken character. Nothing was changed."
        except (ValueError, RecursionError):
            # What is no JSON at all is said where it is read.
            return None
    return None
