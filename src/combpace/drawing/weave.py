"""The weave: the comb of a whole song at one glance, as rows of darkness."""

from __future__ import annotations

import numpy as np

from combpace.core.clocks import FloatArray
from combpace.core.tempo.weave import darkness
from combpace.session.data_folder import DataFolder
from combpace.session.state import SessionState, session_state


def weave_of(
    folder: DataFolder, session_id: str, columns: int = 240, most_rows: int = 2000
) -> tuple[int, FloatArray]:
    """(number of the first bar, darkness 0-1 of shape (bars, columns)) of the lead against the session's
    map.
    """
    seen = session_state(folder, session_id)
    return weave_from(seen, columns, most_rows)


def weave_from(seen: SessionState, columns: int = 240, most_rows: int = 2000) -> tuple[int, FloatArray]:
    session_map, lead = seen.session_map(), seen.document.lead
    heard = seen.analysis(lead.id) if lead else None
    if session_map is None or heard is None or lead is None:
        return 1, np.zeros((0, columns))
    first = session_map.bar_of(session_map.place(max(0.0, lead.offset_s)))
    last = session_map.bar_of(session_map.place(lead.offset_s + seen.duration_s(lead.id)))
    bars = int(np.clip(last - first + 1, 1, most_rows))
    lines = session_map.to_seconds(session_map.bar_lines(first, bars))
    return first, darkness(lines, heard.activation, lead.offset_s, columns)


def lead_activation(seen: SessionState) -> tuple[bytes, float]:
    """(how much of an attack there is in the lead, a byte each hundredth of a second of its own clock;
    session time of its start).
    """
    lead = seen.document.lead
    heard = seen.analysis(lead.id) if lead else None
    if lead is None or heard is None:
        return b"", 0.0
    return np.round(255 * np.clip(heard.activation, 0, 1)).astype(np.uint8).tobytes(), lead.offset_s
