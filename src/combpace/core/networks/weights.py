"""Weights of small learnt networks, kept beside this module."""

from __future__ import annotations

from functools import cache
from importlib import resources

import numpy as np

from combpace.core.spectra import Float32Array


@cache
def weights_of(name: str) -> dict[str, Float32Array]:
    """The weights of a network that lie beside this module, read once.

    Returns  name -> array, shapes as the network of that name has them; not to be changed
    """
    with resources.files("combpace.core.networks").joinpath(name).open("rb") as file, np.load(file) as kept:
        return {name: kept[name].astype(np.float32) for name in kept.files}
