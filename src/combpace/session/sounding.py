"""How the takes and parts of a session are to be heard, and what names that: in addresses, and wherever it is
kept.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from combpace.core.errors import CombPaceError
from combpace.core.fit.accents import Levels
from combpace.core.fit.time_map import TimeMap
from combpace.session import fits, notes, pieces
from combpace.session.fits import TakeFit
from combpace.session.keys import part_key, played_key, slowed_key, state_key
from combpace.session.page_forms import SoundNames
from combpace.session.state import SessionState

# What sounds at its own speed, and what is drawn out.
AT_SPEED = 1.0


@dataclass(frozen=True, slots=True)
class Sounding:
    """How a take is to be heard.

    offset_s  where its first frame lies when it sounds as played
    fit       time map (take time -> session time) and method, or None for as played
    speed     0.5-1: slowed by this, pitch kept
    attacks   take seconds: where slowed sound must not smear, whatever the map pulls
    bundle    decoded files of all mics it was recorded with, this one at `own`, in an order that is the same
              for each: they are stretched as one, so that their phase stays
    levels    where it is louder or softer, session seconds and dB
    """

    offset_s: float
    fit: tuple[TimeMap, str] | None = None
    speed: float = 1.0
    attacks: tuple[float, ...] = ()
    bundle: tuple[Path, ...] = ()
    own: int = 0
    levels: Levels = ()


def how_it_sounds(state: SessionState, take_id: str, *, fitted: bool, speed: float) -> Sounding:
    """A take of a session as it is to be heard. Raises ParameterError where it is to be fitted and has no
    pulse.
    """
    entry = state.document.take(take_id)
    made = fits.take_fit(state, take_id) if fitted else None
    return Sounding(
        entry.offset_s,
        (made.fit.time_map, made.method) if made else None,
        speed,
        _attacks(state, take_id) if speed != AT_SPEED else (),
        *fits.bundle_files(state.folder, state.document.bundle_of(take_id), state.rows, take_id),
        made.levels if made else (),
    )


def _attacks(state: SessionState, take_id: str) -> tuple[float, ...]:
    return tuple(float(time) for time in state.onsets(take_id).times)


# -- names


def name_of(state: SessionState, take_id: str, *, fitted: bool, speed: float) -> str:
    """What names the sound of a take or part exactly as it is now, at this speed or at another where it is
    drawn out. Raises ParameterError as `how_it_sounds`, NotFoundError where there is no sound yet.
    """
    if any(part.id == take_id for part in state.document.notes):
        return part_key(notes.heard(state, take_id))
    if fitted and pieces.in_pieces(state, take_id):
        return pieces.key_of(state, take_id)
    if fitted:
        return fitted_name(state, fits.take_fit(state, take_id), take_id, slowed=speed != AT_SPEED)
    return played_name(state, take_id, slowed=speed != AT_SPEED)


def played_name(state: SessionState, take_id: str, *, slowed: bool) -> str:
    """Names a take as it was played."""
    sha = state.folder.blob(state.rows[take_id].decoded_sha if take_id in state.rows else None).name
    played = played_key(sha, state.document.take(take_id).offset_s)
    return _slowed(state, take_id, played) if slowed else played


def fitted_name(state: SessionState, made: TakeFit, take_id: str, *, slowed: bool) -> str:
    """Names the fitted sound of one take of a fit's bundle."""
    key = fits.key_of(state, made, take_id)
    return _slowed(state, take_id, key) if slowed else key


def _slowed(state: SessionState, take_id: str, sounding: str) -> str:
    together = fits.bundle_shas(state.document.bundle_of(take_id), state.rows)
    return slowed_key(sounding, state.onsets(take_id).times, together)


def name_of_state(state: SessionState) -> str:
    """Names all sounds of a session together: short of none, whichever of them was decided about. For a take
    whose fit is not drawn, so that nothing need be derived to name it.
    """
    found: str = state.once(
        "name of a state",
        lambda: state_key(
            state.opened.revision.id,
            [(row.id, row.state, row.analysis_sha, row.decoded_sha) for row in state.rows.values()],
        ),
    )
    return found


def take_names(state: SessionState, take_id: str) -> SoundNames:
    """What a page asks for the sounds of a take by; `fitted` where it leaves fitted, or in pieces."""
    names: SoundNames = {"played": None, "slowed": None, "fitted": None, "fitted_slowed": None}
    try:
        names["played"] = played_name(state, take_id, slowed=False)
        names["slowed"] = played_name(state, take_id, slowed=True)
    except CombPaceError:
        # There is no sound yet.
        return names
    if pieces.in_pieces(state, take_id):
        names["fitted"] = names["fitted_slowed"] = pieces.key_of(state, take_id)
    elif fits.is_fitted(state, take_id):
        names["fitted"] = names["fitted_slowed"] = name_of_state(state)
    return names


def fit_names(state: SessionState, take_id: str) -> dict[str, SoundNames]:
    """The same of every take of a bundle whose fit is drawn, with the fit's own names; none where there is no
    fit.
    """
    try:
        made = fits.take_fit(state, take_id)
    except CombPaceError:
        return {}
    found: dict[str, SoundNames] = {}
    for mate in state.document.bundle_of(made.take.id):
        names = take_names(state, mate.id)
        if names["played"] is not None and not pieces.in_pieces(state, mate.id):
            names["fitted"] = fitted_name(state, made, mate.id, slowed=False)
            names["fitted_slowed"] = fitted_name(state, made, mate.id, slowed=True)
        found[mate.id] = names
    return found
