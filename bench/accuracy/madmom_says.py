"""What madmom says of sound files, for `bench.accuracy.accuracy --madmom PYTHON`; run by that Python, where
madmom is installed.

madmom (Böck et al. 2016) wants an older numpy than the project; on Python 3.11: `pip install "numpy<1.24"
"cython<3" "setuptools<60" scipy mido`, then its source archive with every generated .c file that has a .pyx
or .py beside it removed. Its models are for non-commercial use: a yardstick, nothing of it ships.
"""

import collections
import collections.abc
import json
import sys
import time
from pathlib import Path

for name in ("MutableSequence", "MutableMapping", "Iterable", "Sequence", "Mapping"):
    # Where these lived when it was written.
    setattr(collections, name, getattr(collections.abc, name))

import numpy as np  # noqa: E402
from madmom.features.downbeats import DBNDownBeatTrackingProcessor, RNNDownBeatProcessor  # noqa: E402


def main() -> None:
    out, paths = Path(sys.argv[1]), [Path(text) for text in sys.argv[2:]]
    hear, follow = RNNDownBeatProcessor(), DBNDownBeatTrackingProcessor(beats_per_bar=[3, 4], fps=100)
    begun = time.process_time()
    for path in paths:
        beats = follow(hear(str(path)))
        bpm = float(60 / np.median(np.diff(beats[:, 0]))) if len(beats) > 1 else 0.0
        said = {"beats": beats[:, 0].tolist(), "downbeats": beats[beats[:, 1] == 1, 0].tolist(), "bpm": bpm}
        (out / f"{path.stem}.json").write_text(json.dumps(said))
    print(time.process_time() - begun)


if __name__ == "__main__":
    main()
