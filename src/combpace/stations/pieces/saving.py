"""A chosen piece as a file."""

from __future__ import annotations

from pathlib import Path

from combpace.core.errors import ParameterError
from combpace.core.pieces.laying import Pieces
from combpace.media.encode import FORMATS, write_sound
from combpace.media.names import file_name
from combpace.session import pieces, words
from combpace.session.data_folder import DataFolder
from combpace.session.state import session_state
from combpace.stations.pieces.now import one_of, pieces_now


def write_piece(
    folder: DataFolder, session_id: str, take_id: str, number: int, kind: str
) -> tuple[Path, str]:
    """Write one piece as it sounds alone, with its level and fades, of exactly its length. Returns (a file to
    be removed after use, its name).

    kind    one of media.encode.FORMATS
    Raises  ParameterError for a piece or a format that does not exist
    """
    if kind not in FORMATS:
        raise ParameterError(f"“{kind}” is not a format; choose one of {', '.join(FORMATS)}.")
    state = session_state(folder, session_id)
    made = pieces_now(state, take_id)
    one_of(made, number)
    line = state.need_map()
    with pieces.opened(state, take_id) as laid:
        alone: Pieces = laid.alone(number)
        suffix = FORMATS[kind][2]
        path = folder.blobs.new_path(suffix)
        write_sound(alone, path, kind, stop=alone.frames)
    at = pieces.laid(state, take_id)[number].at / pieces.rate_of(state, take_id)
    place = words.place(line, line.place(at)).replace("·", ".")
    return path, file_name(f"{state.document.take(take_id).name} piece {place}", suffix, set())
