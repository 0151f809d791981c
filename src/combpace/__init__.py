"""Comb Pace: find the pace of played audio, lay bar lines on its downbeats, pull other audio onto them."""

import os

# Our matrices are small: the threads of a linear algebra library would spend three times the work waiting for
# each other. Read when numpy is first imported, so it stands here; what the user set stays.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
