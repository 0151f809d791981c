"""Every address fuzzed from the application's own schema by schemathesis, with real ids: `.venv/bin/python -m
bench.campaign.schema [SECONDS]`.

It is no dependency of the project: it is taken from the path (`st`), or from the folder that ST names;
without it the part is skipped. Event streams are left out, they have a part of their own in the campaign.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from bench.campaign.campaign import begun, orphans, own_schema, served
from bench.campaign.client import Client, Count

SEED = 20


def with_ids(schema: dict[str, Any], real: dict[str, list[str]]) -> dict[str, Any]:
    """The same schema where parameters in the path and the query take ids that exist."""
    for methods in schema["paths"].values():
        for method in methods.values():
            for parameter in method.get("parameters", []):
                if parameter["name"] in real:
                    parameter["schema"] = {"type": "string", "enum": real[parameter["name"]]}
    return schema


def run(seconds: int) -> int:
    st = shutil.which("st", path=os.pathsep.join([os.environ.get("ST", ""), os.environ["PATH"]]))
    if st is None:
        print(
            "skipped: schemathesis is not installed (pip install schemathesis, in an environment of its own)"
        )
        return 0
    with tempfile.TemporaryDirectory() as place, served(Path(place) / "data") as server:
        client = Client(server.address, Count())
        session, takes = begun(client, 6, 2)
        stations = ["takes", "pace", "bars", "onsets", "fit", "pieces", "hand-off"]
        real = {
            "session_id": [session],
            "take_id": takes,
            "take": takes,
            "focus": takes,
            "of": takes,
            "station": stations,
        }
        path = Path(place) / "schema.json"
        path.write_text(json.dumps(with_ids(own_schema(), real)))
        command = [
            st,
            "run",
            str(path),
            "--url",
            server.address,
            "--checks",
            "not_a_server_error",
            "--max-time",
            str(seconds),
            "--seed",
            str(SEED),
        ]
        command += ["--continue-on-failure", "--warnings", "off", "--report-dir", place, "--no-color"]
        ended = subprocess.run(command, capture_output=True, text=True, check=False, cwd=place)
        print(ended.stdout[-4000:], ended.stderr[-2000:])
        left = orphans(client, server, 30)
        print(
            f"sessions that do not open, takes that nobody reads: {left}; the server answers: "
            f"{client.status('/') == 200}"
        )
        return ended.returncode or left


if __name__ == "__main__":
    sys.exit(run(int(sys.argv[1]) if len(sys.argv) > 1 else 120))
