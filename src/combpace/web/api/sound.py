"""What sounds: two seconds of a take or part on the session's clock, as played, fitted or slowed."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

from anyio import CapacityLimiter, fail_after, to_thread
from fastapi import APIRouter, Query
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, ConfigDict, ValidationError

from combpace.core.errors import ParameterError
from combpace.playback import laid
from combpace.playback.preview import SEGMENT_S, Previewer
from combpace.session import notes, pieces, sounding
from combpace.session.data_folder import DataFolder
from combpace.session.state import SessionState, session_state
from combpace.web.deps import Folder, Preview
from combpace.workers.warm import SlowError


class Tried(BaseModel):
    """A cut that is only tried: the version that the page shows, and the decision's arguments beside it."""

    model_config = ConfigDict(extra="allow")

    version: int

    @property
    def args(self) -> dict[str, object]:
        return dict(self.model_extra or {})


def _tried(text: str) -> Tried:
    try:
        return Tried.model_validate_json(text)
    except ValidationError as error:
        raise ParameterError(
            "What is to be tried cannot be read. Nothing was changed; reload the page."
        ) from error


router = APIRouter(prefix="/api/sessions/{session_id}")
IMMUTABLE = "private, max-age=31536000, immutable"


# So many requests for sound are worked on at a time: they wait for one worker, and pages must not wait behind
# them.
AT_A_TIME = 8
_limit = CapacityLimiter(AT_A_TIME)


@router.get("/takes/{take_id}/sound")
async def get_sound(
    session_id: str,
    take_id: str,
    folder: Folder,
    preview: Preview,
    segment: int = Query(ge=-100_000, le=1_000_000),
    rate: int = Query(ge=8000, le=192000),
    fitted: bool = False,
    speed: float = Query(1.0, ge=0.5, le=1.0),
    v: str = "",
    trial: str = Query("", max_length=2000),
) -> Response:
    """Float32, one channel after the other. `v` names what is heard, so that it may be kept; where it sounds
    otherwise by now, 409 and {"v": its name now}. trial: a cut that is only tried, its arguments and the
    version it is tried on as JSON.
    """
    asked = _Asked(session_id, take_id, segment, rate, fitted, speed, v, trial)
    make = partial(_sound, folder, preview, asked)
    try:
        # With its turn; a thread that goes on is given up by the worker's own patience.
        with fail_after(folder.settings.sound_s):
            return await to_thread.run_sync(make, abandon_on_cancel=True, limiter=_limit)
    except TimeoutError:
        raise SlowError(
            "Sound is being made for other requests. Nothing is lost; press Space again."
        ) from None


@dataclass(frozen=True, slots=True)
class _Asked:
    """What a request for sound names; see `get_sound`."""

    session: str
    take: str
    segment: int
    rate: int
    fitted: bool
    speed: float
    v: str
    trial: str


def _sound(folder: DataFolder, preview: Previewer, asked: _Asked) -> Response:
    state, fitted, take_id = session_state(folder, asked.session), asked.fitted, asked.take
    # What is only tried has no name of its own: it is never kept.
    v = "" if asked.trial else asked.v
    if asked.trial:
        tried = _tried(asked.trial)
        state, fitted = laid.tried(state, tried.version, tried.args), True
    if v and not _is_now(state, asked):
        now = sounding.name_of(state, take_id, fitted=fitted, speed=asked.speed)
        return JSONResponse({"v": now}, 409, headers={"Cache-Control": "no-store"})
    if any(part.id == take_id for part in state.document.notes):
        frames = round(SEGMENT_S * asked.rate)
        source = notes.source_of(state, take_id, asked.rate, asked.speed)
        block = source.read(asked.segment * frames, (asked.segment + 1) * frames)
        channels, data = 1, block.astype("<f4").tobytes()
    elif fitted and pieces.in_pieces(state, take_id):
        key = pieces.key_of(state, take_id)
        channels, data = preview.laid(
            key, partial(pieces.laid_sound, state, take_id), asked.rate, asked.segment, asked.speed
        )
    else:
        path = folder.blob(state.rows[take_id].decoded_sha if take_id in state.rows else None)
        how = sounding.how_it_sounds(state, take_id, fitted=fitted, speed=asked.speed)
        channels, data = preview.segment(path, how, asked.rate, asked.segment)
    headers = {"X-Channels": str(channels), "Cache-Control": IMMUTABLE if v else "no-store"}
    return Response(data, media_type="application/octet-stream", headers=headers)


def _is_now(state: SessionState, asked: _Asked) -> bool:
    """Whether the sound that is asked for by a name is still that sound."""
    if asked.fitted and asked.v == sounding.name_of_state(state):
        return True
    return asked.v == sounding.name_of(state, asked.take, fitted=asked.fitted, speed=asked.speed)
