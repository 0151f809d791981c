"""The one error tree. Every message is a sentence: what happened, what is unchanged, what to do."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any


class CombPaceError(Exception):
    """Anything this program refuses. Its text is shown to the user as it stands."""


class ParameterError(CombPaceError):
    """A value outside what a function can work with."""


class MapConflictError(CombPaceError):
    """Places that no tempo map can satisfy together; the text names them.

    text     "{0}", "{1}" in it stand for the moments
    moments  what is stated there cannot all hold; seconds, on the map's clock
    follow   a map that follows the playing could hold them all
    """

    def __init__(
        self, text: str, *moments: float, follow: bool = False, clock: Callable[[float], str] | None = None
    ) -> None:
        said = [f"{time:.3f} s" if clock is None else clock(time) for time in moments]
        super().__init__(text.format(*said) if moments else text)
        self.text, self.moments, self.follow = text, moments, follow
        # What may be done instead, once the session was asked: decisions as {"words", "do", "args"}.
        self.offers: list[dict[str, Any]] | None = None

    def at(self, to: Callable[[float], float]) -> MapConflictError:
        """The same about other moments."""
        return MapConflictError(self.text, *map(to, self.moments), follow=self.follow)

    def told(self, clock: Callable[[float], str]) -> MapConflictError:
        """The same with its moments as a page shows them."""
        made = MapConflictError(self.text, *self.moments, follow=self.follow, clock=clock)
        made.offers = self.offers
        return made

    def later(self, by_s: float) -> MapConflictError:
        """The same on a clock that shows so much more."""
        return self.at(lambda time: time + by_s)


class MediaError(CombPaceError):
    """A file that cannot be read or written as what it claims to be."""


class NotFoundError(CombPaceError):
    """Something asked for by id that does not exist (any more)."""


class DamagedError(CombPaceError):
    """A session that is there and cannot be read; the text says what can be done with it."""


class StaleError(CombPaceError):
    """A decision made on an older revision than the newest; carries the newest one's number and note."""

    def __init__(self, text: str, *, newest: int, parts: tuple[str, ...] = ()) -> None:
        super().__init__(text)
        self.newest = newest
        self.parts = parts


class StorageError(CombPaceError):
    """The disk or the database takes nothing now. `full`: room is missing; else it may go on by itself."""

    def __init__(self, text: str, *, full: bool) -> None:
        super().__init__(text)
        self.full = full


class CancelledError(CombPaceError):
    """The user stopped a job; nothing was changed."""
