"""Addresses of the wire."""

from __future__ import annotations

from combpace.web.api import (
    archives,
    decisions,
    events,
    files,
    grooves,
    health,
    jobs,
    pace,
    sessions,
    sound,
    takes,
)

ROUTERS = tuple(
    module.router
    for module in (sessions, archives, takes, decisions, pace, sound, jobs, files, grooves, events, health)
)
