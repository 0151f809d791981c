"""What the store itself can refuse; use cases turn these into sentences for the user."""


class MissingError(Exception):
    """A row asked for by id that does not exist (any more)."""


class OutdatedError(Exception):
    """A write that was based on another revision than the newest."""

    def __init__(self, newest: int, note: str, changed: tuple[str, ...]) -> None:
        super().__init__(f"newest version is {newest}")
        self.newest = newest
        self.note = note
        self.changed = changed
