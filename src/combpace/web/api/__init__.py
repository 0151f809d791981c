"""Addresses of the wire."""

from __future__ import annotations

from combpace.web.api import decisions, events, files, jobs, sessions, sound, takes

ROUTERS = tuple(module.router for module in (sessions, takes, decisions, sound, jobs, files, events))
