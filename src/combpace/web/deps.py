"""What handlers are given."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Request

from combpace.services.preview import Previewer
from combpace.services.workplace import Workplace


def workplace(request: Request) -> Workplace:
    found: Workplace = request.app.state.workplace
    return found


def previewer(request: Request) -> Previewer:
    found: Previewer = request.app.state.previewer
    return found


Place = Annotated[Workplace, Depends(workplace)]
Preview = Annotated[Previewer, Depends(previewer)]
