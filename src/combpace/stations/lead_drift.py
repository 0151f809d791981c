"""How the lead's own beats lie against a steady session, and what is proposed where they run away from it."""

from __future__ import annotations

from dataclasses import dataclass

from combpace.core.tempo.drift import Course
from combpace.core.tempo.meters import bar_number
from combpace.drawing.picture import lead_course
from combpace.session import fits
from combpace.session.state import SessionState
from combpace.stations.station import Action, Place

# What piles up is audible from here on (common practice; the limit of P5).
AUDIBLE_MS = 10.0
# A straight course counts where it explains so much more than the scatter of single beats.
CLEAR = 1.5


@dataclass(frozen=True, slots=True)
class TempoError:
    """A steady tempo that is wrong by so much that it is heard.

    bpm          counted beats a minute that the beats ask for; off_bpm: what the session's is too much
                 (positive) or too little
    ms_a_bar     how much attacks come later (positive) or earlier with every bar
    audible_bar  number of the first bar where they lie more than AUDIBLE_MS from its line, and its index
    piled_ms     how far they lie from it at the end
    """

    bpm: float
    off_bpm: float
    ms_a_bar: float
    audible_bar: int
    audible_index: int
    piled_ms: float


def tempo_error(state: SessionState) -> TempoError | None:
    """None where the map breathes, nothing was heard, or the tempo is right as far as can be heard."""
    line, course = state.session_map(), lead_course(state)
    if line is None or course is None or len(course.places) < 8:
        return None
    if fits.is_fitted(state, state.need_lead().id):
        # What sounds is pulled to the grid, however it was played.
        return None
    beat = line.meters[0].beat_quarters
    now = line.bpm_at(0.0)
    better, slope = course.bpm, course.slope_ms
    fitted = state.steady(state.need_lead().id)
    # The fit of the take itself is sharper where a machine played: it hears all attacks.
    if fitted and abs(fitted["bpm"] * _quarters_a_beat(state, course) / better - 1) < 2e-4:
        better = fitted["bpm"] * _quarters_a_beat(state, course)
        slope = 1000.0 * (60.0 / better - 60.0 / now)
    start = course.start_ms + (course.slope_ms - slope) * float(course.places.mean())
    last = float(course.places[-1])
    piled = start + slope * last
    far = max(abs(piled), abs(start + slope * float(course.places[0])))
    if far <= AUDIBLE_MS or abs(slope * (last - float(course.places[0]))) < CLEAR * course.scatter_ms:
        return None
    first, stop = line.bar_of(float(course.places[0])), line.bar_of(last)
    heard = next(
        (index for index in range(first, stop + 1) if abs(start + slope * line.bar_line(index)) > AUDIBLE_MS),
        None,
    )
    if heard is None:
        return None
    bar_quarters = line.meters[0].bar_quarters
    return TempoError(
        better / beat, (now - better) / beat, slope * bar_quarters, bar_number(heard), heard, piled
    )


def _quarters_a_beat(state: SessionState, course: Course) -> float:
    """Which note value of the session one beat of the lead's own count is."""
    pace = state.own_pace(state.need_lead().id)
    assert pace is not None
    counted = pace.beats_from_bar_1(float(pace.quarters[-1])) - pace.beats_from_bar_1(float(pace.quarters[0]))
    return float(course.places[-1] - course.places[0]) / counted


def drift_places(state: SessionState) -> list[Place]:
    """The first thing to look at in a steady session whose tempo is audibly wrong; its button mends it."""
    error = tempo_error(state)
    if error is None:
        return []
    way, fix = ("earlier", "too slow") if error.ms_a_bar < 0 else ("later", "too fast")
    bpm = round(error.bpm, 4)
    return [
        Place(
            f"bar {error.audible_bar}",
            f"Audible from bar {error.audible_bar}: attacks come {abs(error.ms_a_bar):.2f} ms {way} "
            "every bar",
            f"the grid is {fix} by {abs(error.off_bpm):.3f} BPM; at the end they lie "
            f"{abs(error.piled_ms):.0f} ms from it",
            state.need_map().second(state.need_map().bar_line(error.audible_index)),
            1000.0,
            Action(f"Use {bpm:.3f} BPM", "steady", {"bpm": bpm}),
            about="drift",
        )
    ]
