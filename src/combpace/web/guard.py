"""What every request passes: known host names, same origin for what changes things, headers that keep pages to themselves."""

from __future__ import annotations

from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import PlainTextResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

SAFE = ("GET", "HEAD", "OPTIONS")
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; "
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

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        refusal = self._refusal(scope)
        if refusal:
            await PlainTextResponse(refusal[1], refusal[0])(scope, receive, send)
            return

        async def guarded(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in HEADERS.items():
                    headers.setdefault(name, value)
                headers.setdefault("Cache-Control", "no-store")
            await send(message)

        await self._app(scope, receive, guarded)

    def _refusal(self, scope: Scope) -> tuple[int, str] | None:
        headers = Headers(scope=scope)
        host = headers.get("host", "")
        if host_of(host).lower() not in self._hosts:
            return 400, "This host name is not one that this server answers to. Set COMBPACE_HOSTS to allow it."
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
