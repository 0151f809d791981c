"""Templates, hashed static addresses, and what all pages are given."""

from __future__ import annotations

import hashlib
import re
from functools import cache
from pathlib import Path
from typing import Any

from fastapi import Request
from fastapi.responses import HTMLResponse
from jinja2 import Environment, FileSystemLoader, StrictUndefined, select_autoescape
from markupsafe import Markup
from pydantic_core import to_json

from combpace import __version__
from combpace.session import words

WEB = Path(__file__).resolve().parents[1]
STATIC = WEB / "static"


@cache
def tree() -> str:
    """A hash of everything static: part of each address, so that modules that import each other change
    together.
    """
    digest = hashlib.sha256()
    for path in sorted(STATIC.rglob("*")):
        if path.is_file():
            digest.update(path.relative_to(STATIC).as_posix().encode() + path.read_bytes())
    return digest.hexdigest()[:12]


def static(name: str) -> str:
    """Where a static file is served; it may be kept for ever."""
    return f"/static/{tree()}/{name}"


def icon(name: str) -> Markup:
    """One of the few icons, inline."""
    text = (STATIC / "vendor" / "icons" / f"{name}.svg").read_text(encoding="utf-8")
    return Markup(re.sub(r"<svg ", '<svg aria-hidden="true" ', text, count=1))


ENVIRONMENT = Environment(
    loader=FileSystemLoader([WEB / "templates", WEB.parent / "stations"]),
    autoescape=select_autoescape(["html"]),
    undefined=StrictUndefined,
    trim_blocks=True,
    lstrip_blocks=True,
)
ENVIRONMENT.globals.update(static=static, icon=icon, version=__version__)
ENVIRONMENT.filters.update(clock=words.clock, signed_ms=words.signed_ms)


def in_json(value: Any) -> str:
    """JSON text of a value, for a page or its attributes."""
    return to_json(value).decode("utf-8")


def page(template: str, /, **values: Any) -> HTMLResponse:
    return HTMLResponse(ENVIRONMENT.get_template(template).render(**values))


def error_page(request: Request, status: int, text: str) -> str:
    return ENVIRONMENT.get_template("error.html").render(status=status, text=text)
