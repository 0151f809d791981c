"""Every setting in one place: environment first, then the command line."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

import platformdirs

from combpace.core.errors import ParameterError

# Where earlier versions kept everything, from the folder in which they were started.
BESIDE = Path("data")


LEVELS = ("debug", "info", "warning", "error")


@dataclass(frozen=True, slots=True)
class Settings:
    """What the application runs with.

    data_dir      everything it keeps: database, sounds, renders
    host, port    where it listens; port 0 takes a free one
    upload_cap    bytes of one upload
    workers       jobs at the same time
    worker_bytes  address space of one worker, so that a forged file cannot take the machine
    hosts         host names that requests may carry
    scheduler     address of a Dask scheduler that listens and renders instead, or None
    range_s       seconds of music of which marks and fit go to a page in one piece; a session of three such
                  is one piece
    sound_s       seconds that a request for sound may take, whatever holds it up
    log           what the log holds at least: debug (sound that is asked for, too), info (each request and
                  job), warning, error
    """

    data_dir: Path = BESIDE
    host: str = "127.0.0.1"
    port: int = 8420
    upload_cap: int = 4 * 2**30
    workers: int = 2
    worker_bytes: int = 8 * 2**30
    hosts: tuple[str, ...] = ("127.0.0.1", "localhost", "[::1]")
    scheduler: str | None = None
    range_s: int = 300
    sound_s: float = 5.0
    log: str = "warning"

    def with_command_line(self, host: str | None, port: int | None, data_dir: str | None) -> Settings:
        """The same settings with what the command line says."""
        changed = self
        if host:
            changed = replace(changed, host=host, hosts=(*changed.hosts, host))
        if port is not None:
            changed = replace(changed, port=port)
        if data_dir:
            changed = replace(changed, data_dir=Path(data_dir))
        return changed


def own_folder() -> Path:
    """The data folder where none is named: one that lies here already, else this user's own, where the system
    keeps such things.
    """
    return (
        BESIDE
        if (BESIDE / "combpace.db").is_file()
        else platformdirs.user_data_path("combpace", appauthor=False)
    )


def from_environment(environment: Mapping[str, str] | None = None) -> Settings:
    """Read COMBPACE_DATA, _HOST, _PORT, _UPLOAD_CAP (bytes), _WORKERS, _WORKER_BYTES, _HOSTS
    (comma-separated), _SCHEDULER, _RANGE and _SOUND (seconds), _LOG.
    """
    values = os.environ if environment is None else environment
    made = Settings()

    def number(name: str, fallback: int, least: int) -> int:
        text = values.get(name, "").strip()
        if not text:
            return fallback
        if not text.isdecimal() or int(text) < least:
            raise ParameterError(f"{name} must be a whole number of at least {least}, not “{text}”.")
        return int(text)

    log = values.get("COMBPACE_LOG", "").strip().lower() or made.log
    if log not in LEVELS:
        raise ParameterError(f"COMBPACE_LOG is one of {', '.join(LEVELS)}, not “{log}”.")
    hosts = tuple(name.strip() for name in values.get("COMBPACE_HOSTS", "").split(",") if name.strip())
    return Settings(
        data_dir=Path(values.get("COMBPACE_DATA") or own_folder()),
        host=values.get("COMBPACE_HOST") or made.host,
        port=number("COMBPACE_PORT", made.port, 0),
        upload_cap=number("COMBPACE_UPLOAD_CAP", made.upload_cap, 1024),
        workers=number("COMBPACE_WORKERS", min(4, max(1, (os.cpu_count() or 2))), 1),
        worker_bytes=number("COMBPACE_WORKER_BYTES", made.worker_bytes, 2**29),
        hosts=(*made.hosts, *hosts, *([values["COMBPACE_HOST"]] if values.get("COMBPACE_HOST") else [])),
        scheduler=values.get("COMBPACE_SCHEDULER", "").strip() or None,
        range_s=number("COMBPACE_RANGE", made.range_s, 2),
        sound_s=float(number("COMBPACE_SOUND", int(made.sound_s), 1)),
        log=log,
    )
