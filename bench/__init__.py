"""Measurements, one command each."""

import combpace  # noqa: F401 - before numpy: it says how many threads our matrices get
