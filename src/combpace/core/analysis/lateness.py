"""How late a machine's attacks lie against a grid that begins with the file: padding that an encoder left, or
a copy of a copy.
"""

from __future__ import annotations

import numpy as np

from combpace.core.analysis.steady_tempo import PROGRAMMED_S

# What an encoder, a decoder or a copy of both puts before the sound (common practice); more is silence, less
# is the reading.
LEAST_LATE_S, MOST_LATE_S = 0.005, 0.120
# Frames that encoders and decoders leave before the sound (common practice): MP3's decoder 529, encoders 576
# and 1152 beside it, one more frame of 1152; AAC's 1024, 2048, 2112, 2624; and each twice in a copy of a
# copy.
PADDING_FRAMES = (529, 1024, 1105, 1681, 2048, 2112, 2257, 2624)
PADDING_OFF_S = 0.0012
# A session's own tempo is a whole or half number of BPM, as far as can be measured.
ROUND_BPM, STEP_BPM = 0.02, 0.5


def left_by_an_encoder(late_s: float, rate_hz: int) -> bool:
    """Whether a delay is one that encoders leave, once or in a copy of a copy."""
    return any(
        abs(late_s - times * frames / rate_hz) <= PADDING_OFF_S
        for frames in PADDING_FRAMES
        for times in (1, 2)
    )


def lateness_s(
    bpm: float,
    plus_minus_bpm: float,
    first_downbeat_s: float,
    scatter_ms: float,
    first_attack_s: float = np.inf,
) -> float | None:
    """Seconds by which all beats come after a grid that begins at the first frame, where that looks like
    padding.

    Only of a take that a machine played, at a round tempo or beginning on a beat, from LEAST_LATE_S to
    MOST_LATE_S and
    less than half a beat; None elsewhere. A copy of a copy runs at an odd tempo, but still begins where its
    first beat was. It is a guess: silence that someone left before the music looks the same. The arguments
    are those of `SteadyTempo`.
    """
    off = max(ROUND_BPM, plus_minus_bpm)
    period = 60.0 / bpm
    late = first_downbeat_s % period
    is_round = abs(bpm / STEP_BPM - round(bpm / STEP_BPM)) * STEP_BPM <= off
    if scatter_ms > 1000 * PROGRAMMED_S or not (is_round or abs(first_attack_s - late) < LEAST_LATE_S):
        return None
    return late if LEAST_LATE_S <= late <= min(MOST_LATE_S, 0.5 * period) else None
