"""How late a machine's attacks lie against a grid that begins with the file: padding that an encoder left, or a copy of a copy."""

from __future__ import annotations

from combpace.core.analysis.steady_tempo import PROGRAMMED_S, SteadyTempo

# What an encoder, a decoder or a copy of both puts before the sound (common practice); more is silence, less is the reading.
LEAST_S, MOST_S = 0.005, 0.120
# A session's own tempo is a whole or half number of BPM, as far as can be measured.
ROUND_BPM, STEP_BPM = 0.02, 0.5


def lateness_s(steady: SteadyTempo) -> float | None:
    """Seconds by which all beats come after a grid that begins at the first frame, where that looks like padding.

    Only of a take that a machine played at a round tempo, from LEAST_S to MOST_S and less than half a beat; None elsewhere. It is a guess: silence
    that someone left before the music looks the same.
    """
    off = max(ROUND_BPM, steady.plus_minus_bpm)
    if steady.scatter_ms > 1000 * PROGRAMMED_S or abs(steady.bpm / STEP_BPM - round(steady.bpm / STEP_BPM)) * STEP_BPM > off:
        return None
    period = 60.0 / steady.bpm
    late = steady.first_downbeat_s % period
    return late if LEAST_S <= late <= min(MOST_S, 0.5 * period) else None
