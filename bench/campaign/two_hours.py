"""A file of two hours through a real server: `.venv/bin/python -m bench.campaign.two_hours FILE`. What
reading costs, and what the session weighs.
"""

from __future__ import annotations

import argparse
import http.client
import tempfile
import time
from pathlib import Path
from urllib.parse import urlsplit

from bench.campaign.campaign import beat, settle
from bench.campaign.client import Client, Count
from rig.processes import descendants
from rig.server import Server

TICK = 100


def cost(pid: int) -> tuple[float, float]:
    """(CPU seconds so far, most resident MB so far) of a process; zeros where it is gone."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text(encoding="utf-8").rsplit(")", 1)[1].split()
        most = next(
            line
            for line in Path(f"/proc/{pid}/status").read_text(encoding="utf-8").splitlines()
            if line.startswith("VmHWM")
        )
    except (OSError, StopIteration):
        return 0.0, 0.0
    return (int(fields[11]) + int(fields[12])) / TICK, int(most.split()[1]) / 1024


def seven() -> None:
    """Seven takes of 40 s that come at once."""
    with tempfile.TemporaryDirectory() as folder:
        server = Server(Path(folder) / "data").start()
        try:
            client = Client(server.address, Count())
            session = client.post("/api/sessions", {"name": "seven"})["id"]
            begun = time.monotonic()
            for number in range(7):
                client.put(f"/api/sessions/{session}/uploads?name=take {number}.wav", beat(40, number, 44100))
            states = settle(client, session)
            print(
                f"seven takes of 40 s: {states.count('ready')} read within "
                f"{time.monotonic() - begun:.1f} s (asked 15)"
            )
        finally:
            server.stop()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument(
        "file", type=Path, nargs="?", help="of two hours; without it only seven takes of 40 s are read"
    )
    options = parser.parse_args()
    seven()
    if options.file is None:
        return
    with tempfile.TemporaryDirectory() as folder:
        server = Server(Path(folder) / "data").start()
        try:
            assert server._process is not None
            client = Client(server.address, Count())
            session = client.post("/api/sessions", {"name": "two hours"})["id"]
            before = {pid: cost(pid)[0] for pid in descendants(server._process.pid)}
            connection = http.client.HTTPConnection(urlsplit(server.address).netloc, timeout=600)
            with options.file.open("rb") as body:
                connection.request(
                    "PUT",
                    f"/api/sessions/{session}/uploads?name=two.wav",
                    body,
                    {"content-length": str(options.file.stat().st_size)},
                )
                connection.getresponse().read()
            begun, most, spent = time.monotonic(), 0.0, dict(before)
            while True:
                for pid in descendants(server._process.pid):
                    seconds, megabytes = cost(pid)
                    spent[pid] = max(seconds, spent.get(pid, 0.0))
                    most = max(most, megabytes)
                time.sleep(0.5)
                health = client.ask("GET", "/api/health", None, ok=None)
                if not health["open_jobs"]:
                    break
            used = sum(seconds - before.get(pid, 0.0) for pid, seconds in spent.items())
            print(
                f"read in {time.monotonic() - begun:.0f} s, {used:.0f} CPU s (asked 200), "
                f"{most:.0f} MB at most (asked 1200)"
            )
            for name in ("first", "second"):
                at = time.monotonic()
                page = client.ask("GET", f"/sessions/{session}/bars", None, ok=None, most_s=60)
                print(
                    f"page, {name} time: {time.monotonic() - at:.2f} s (asked 1.5), "
                    f"{len(page) / 1000:.0f} kB (asked 600)"
                )
            short = f"/api/sessions/{session}/picture?short=true"
            picture = client.get(f"{short}&fit=false")
            bars, ranged = picture["bars"]["s"], picture["ranged"]
            print(
                f"{len(bars)} bars; {ranged['count']} ranges, of which the page has "
                f"{', '.join(ranged['parts'])}"
            )
            at = time.monotonic()
            fit = client.ask("GET", f"/sessions/{session}/fit", None, ok=None, most_s=60)
            print(f"Fit, the first time: {time.monotonic() - at:.2f} s, {len(fit) / 1000:.0f} kB")
            version, worst = picture["version"], 0.0
            for name, args in [("downbeat", {"time_s": place}) for place in bars[50:2000:400]] + [
                ("steady", {}),
                ("breathing", {}),
            ]:
                at = time.monotonic()
                answer = client.ask(
                    "POST",
                    f"/api/sessions/{session}/act/{name}",
                    {"version": version, "args": args},
                    ok=None,
                    most_s=60,
                )
                took = time.monotonic() - at
                worst = max(worst, took)
                version = answer.get("version", version)
                at = time.monotonic()
                client.get(f"{short}&fit=false")
                drawn = time.monotonic() - at
                client.ask("GET", f"/sessions/{session}/bars?part=1", None, ok=None, most_s=60)
                said = str(answer.get("note") or answer.get("error"))[:90]
                print(
                    f"{name}: {1000 * took:.0f} ms, its picture {1000 * drawn:.0f} ms, words "
                    f"{1000 * (time.monotonic() - at - drawn):.0f} ms: {said}"
                )
            print(
                f"slowest decision {1000 * worst:.0f} ms (asked 500); the server holds "
                f"{cost(server._process.pid)[1]:.0f} MB at most (asked 400)"
            )
        finally:
            server.stop()


if __name__ == "__main__":
    main()
