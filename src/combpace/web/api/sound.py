"""What sounds: two seconds of a take or part on the session's clock, as played, fitted or slowed."""

from __future__ import annotations

from functools import partial

from anyio import CapacityLimiter, fail_after, to_thread
from fastapi import APIRouter, Query
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, ValidationError

from combpace.core.errors import ParameterError
from combpace.playback import laid
from combpace.playback.preview import SEGMENT_S, Previewer
from combpace.playback.sound import how_it_sounds
from combpace.session import notes, pieces
from combpace.session.data_folder import DataFolder
from combpace.session.state import session_state
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
    """Float32, one channel after the other. `v` names what is heard, so that it may be kept; trial: a cut
    that is only tried, its arguments and the version it is tried on as JSON."""
    make = partial(_sound, session_id, take_id, folder, preview, segment, rate, fitted, speed, v, trial)
    try:
        # With its turn; a thread that goes on is given up by the worker's own patience.
        with fail_after(folder.settings.sound_s):
            return await to_thread.run_sync(make, abandon_on_cancel=True, limiter=_limit)
    except TimeoutError:
        raise SlowError(
            "Sound is being made for other requests. Nothing is lost; press Space again."
        ) from None


def _sound(
    session_id: str,
    take_id: str,
    folder: DataFolder,
    preview: Previewer,
    segment: int,
    rate: int,
    fitted: bool,
    speed: float,
    v: str,
    trial: str,
) -> Response:
    state = session_state(folder, session_id)
    headers = {"Cache-Control": IMMUTABLE if v else "no-store"}
    if any(part.id == take_id for part in state.document.notes):
        source, frames = notes.source_of(state, take_id, rate, speed), round(SEGMENT_S * rate)
        block = source.read(segment * frames, (segment + 1) * frames)
        return Response(
            block.astype("<f4").tobytes(),
            media_type="application/octet-stream",
            headers={"X-Channels": "1", **headers},
        )
    if trial:
        # What the sentence of Pieces would make, before it is kept.
        tried = _tried(trial)
        state, fitted = laid.tried(state, tried.version, tried.args), True
    if fitted and pieces.in_pieces(state, take_id):
        block = laid.segment(state, take_id, rate, segment, speed)
        data = block.astype("<f4").tobytes()
        return Response(
            data, media_type="application/octet-stream", headers={"X-Channels": str(len(block)), **headers}
        )
    path = folder.blob(state.rows[take_id].decoded_sha if take_id in state.rows else None)
    channels, data = preview.segment(
        path, how_it_sounds(state, take_id, fitted=fitted, speed=speed), rate, segment
    )
    return Response(
        data, media_type="application/octet-stream", headers={"X-Channels": str(channels), **headers}
    )
