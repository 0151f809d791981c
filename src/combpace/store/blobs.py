"""Files by the sha256 of their bytes: written to a temporary name, then renamed; never changed afterwards."""

from __future__ import annotations

import hashlib
import os
import re
import secrets
import shutil
import time
from collections.abc import Iterable
from pathlib import Path

from combpace.store.errors import MissingError

_SHA = re.compile(r"[0-9a-f]{64}")
_CHUNK = 1 << 20


class Blobs:
    """The blobs of one data folder."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.temporary = root / "incoming"
        self.temporary.mkdir(parents=True, exist_ok=True)
        self._whole: set[tuple[str, int, int]] = set()

    def work_in(self, name: str) -> None:
        """Write what is unfinished into a folder of its own, which `clear` removes whatever became of it."""
        self.temporary = self.root / "incoming" / name
        self.temporary.mkdir(parents=True, exist_ok=True)

    def clear(self, name: str) -> None:
        """Remove what work of that name left unfinished."""
        shutil.rmtree(self.root / "incoming" / name, ignore_errors=True)

    def new_path(self, suffix: str = "") -> Path:
        """A name to write to; hand the finished file to `adopt`."""
        return self.temporary / f"{secrets.token_hex(12)}{suffix}"

    def adopt(self, path: Path) -> str:
        """Move a finished file in and return its sha256. The same bytes are kept once."""
        digest = hashlib.sha256()
        with path.open("rb") as data:
            while chunk := data.read(_CHUNK):
                digest.update(chunk)
            os.fsync(data.fileno())
        sha = digest.hexdigest()
        target = self._at(sha)
        target.parent.mkdir(parents=True, exist_ok=True)
        path.replace(target)
        return sha

    def path(self, sha: str | None) -> Path:
        """Where a blob lies. Raises MissingError for what is not there."""
        if sha is None or not _SHA.fullmatch(sha) or not self._at(sha).is_file():
            raise MissingError(f"blob {sha}")
        return self._at(sha)

    def has(self, sha: str) -> bool:
        """Whether a blob is there."""
        return _SHA.fullmatch(sha) is not None and self._at(sha).is_file()

    def mark(self, sha: str) -> tuple[str, int, int]:
        """What says that the file is the same as before: its hash, size and date."""
        found = self._at(sha).stat()
        return sha, found.st_size, found.st_mtime_ns

    def is_whole(self, sha: str) -> bool:
        """Whether its bytes are those it is named by; looked at once for each size and date of the file."""
        path, mark = self.path(sha), self.mark(sha)
        if mark not in self._whole:
            digest = hashlib.sha256()
            with path.open("rb") as data:
                while chunk := data.read(_CHUNK):
                    digest.update(chunk)
            if digest.hexdigest() != sha:
                return False
            self._whole.add(mark)
        return True

    def size(self, sha: str) -> int:
        """Its bytes; 0 where it is not there."""
        try:
            return self._at(sha).stat().st_size
        except OSError:
            return 0

    def remove(self, sha: str, came_before: float) -> bool:
        """Remove a blob that came before a moment. Returns whether it is gone."""
        path = self._at(sha)
        try:
            if path.stat().st_mtime >= came_before:
                return False
            path.unlink()
        except FileNotFoundError:
            return True
        return True

    def clear_unfinished(self) -> None:
        """Remove what killed jobs and uploads left; only while nobody writes here."""
        for path in self.temporary.iterdir():
            if path.is_dir():
                shutil.rmtree(path, ignore_errors=True)
            else:
                path.unlink(missing_ok=True)

    def sweep(self, referenced: Iterable[str], older_than_s: float = 3600.0) -> int:
        """Remove blobs that no row names if they are older than that. Returns how many."""
        keep = set(referenced)
        limit = time.time() - older_than_s
        removed = 0
        for path in self.root.glob("??/*"):
            if path.is_file() and path.name not in keep and path.stat().st_mtime < limit:
                path.unlink(missing_ok=True)
                removed += 1
        return removed

    def _at(self, sha: str) -> Path:
        return self.root / sha[:2] / sha
