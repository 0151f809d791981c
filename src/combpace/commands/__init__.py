"""Commands of the command line that work on a data folder or a whole folder of files, and what they say of
the system's errors.
"""

from __future__ import annotations

from pathlib import Path


def said_of(error: OSError) -> str:
    """One line for an error of the operating system."""
    from combpace.store.trouble import storage_error

    said = storage_error(
        error,
        Path(error.filename).parent if isinstance(error.filename, str) and error.filename else Path.cwd(),
    )
    return (
        str(said)
        if said is not None and said.full
        else f"{error.strerror or error}: {error.filename or ''}".rstrip(": ")
    )
