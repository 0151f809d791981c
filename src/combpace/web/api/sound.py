"""What sounds: two seconds of a take on the session's clock, as played, fitted or slowed."""

from __future__ import annotations

from fastapi import APIRouter, Query
from fastapi.responses import Response

from combpace.playback.sound import how_it_sounds
from combpace.session.state import session_state
from combpace.web.deps import Folder, Preview

router = APIRouter(prefix="/api/sessions/{session_id}")
IMMUTABLE = "private, max-age=31536000, immutable"


@router.get("/takes/{take_id}/sound")
def get_sound(
    session_id: str,
    take_id: str,
    folder: Folder,
    preview: Preview,
    segment: int = Query(ge=-100_000, le=1_000_000),
    rate: int = Query(ge=8000, le=192000),
    fitted: bool = False,
    speed: float = Query(1.0, ge=0.5, le=1.0),
    v: str = "",
) -> Response:
    """Float32, one channel after the other. `v` names what is heard, so that it may be kept."""
    state = session_state(folder, session_id)
    path = folder.blob(state.rows[take_id].decoded_sha if take_id in state.rows else None)
    channels, data = preview.segment(path, how_it_sounds(state, take_id, fitted=fitted, speed=speed), rate, segment)
    headers = {"X-Channels": str(channels), "Cache-Control": IMMUTABLE if v else "no-store"}
    return Response(data, media_type="application/octet-stream", headers=headers)
