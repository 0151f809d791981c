"""The one error tree. Every message is a sentence: what happened, what is unchanged, what to do."""


class CombPaceError(Exception):
    """Anything this program refuses. Its text is shown to the user as it stands."""


class ParameterError(CombPaceError):
    """A value outside what a function can work with."""


class MapConflictError(CombPaceError):
    """Two fixed places that no tempo map can satisfy together; the text names both."""


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
