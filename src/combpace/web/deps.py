"""What handlers are given."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Request

from combpace.playback.preview import Previewer
from combpace.session.data_folder import DataFolder


def data_folder(request: Request) -> DataFolder:
    found: DataFolder = request.app.state.folder
    return found


def previewer(request: Request) -> Previewer:
    found: Previewer = request.app.state.previewer
    return found


Folder = Annotated[DataFolder, Depends(data_folder)]
Preview = Annotated[Previewer, Depends(previewer)]
