"""What a server has to live through: `.venv/bin/python -m bench.campaign.campaign [--minutes | --short]
[--seed N]`. Loopback only.

Each part drives a real `combpace serve` and counts what must not be: acknowledged decisions that are lost,
answers of status 500 and above that are no sentence about a full disk or a busy machine (507, 503), answers
that took longer than 2 s (sound 5 s; uploads take as long as they take), sessions that do not open or takes
that are never read (orphans), processes left. The disk is a small tmpfs, the clock is moved by libfaketime;
where these cannot be had the part is skipped, and said.
"""

from __future__ import annotations

import argparse
import contextlib
import io
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import soundfile as sf

from bench.campaign.bytes import archives, bombs, locked, right_bytes
from bench.campaign.client import SOUND_S, Client, Count
from bench.campaign.hostile import hostile_files
from combpace.session.decisions import DECISIONS
from combpace.settings import Settings
from combpace.stations import registry  # noqa: F401 - registers every decision
from combpace.web.app import create_app
from rig.processes import alive, descendants
from rig.server import Server


@dataclass
class Part:
    """A part of the campaign: name, what it did in words, what it counted; skipped: why it could not be
    tried.
    """

    name: str
    did: str = ""
    count: Count = field(default_factory=Count)
    skipped: str = ""


def beat(seconds: float, seed: int = 1, rate: int = 22050) -> bytes:
    """A struck beat as WAV."""
    random_state = np.random.default_rng(seed)
    sound = np.zeros(int(rate * seconds), np.float32)
    for k in range(int(seconds * 2)):
        at = int(k * rate / 2)
        length = min(2000, len(sound) - at)
        sound[at : at + length] += (
            0.5 * random_state.standard_normal(length) * np.exp(-np.arange(length) / 300)
        ).astype(np.float32)
    out = io.BytesIO()
    sf.write(out, sound, rate, format="WAV", subtype="PCM_16")
    return out.getvalue()


@contextlib.contextmanager
def served(folder: Path) -> Iterator[Server]:
    server = Server(folder).start()
    try:
        yield server
    finally:
        server.stop()


def begun(client: Client, *seconds: float) -> tuple[str, list[str]]:
    """A new session with beats of so many seconds in it, read; (its id, the ids of its takes)."""
    session = client.post("/api/sessions", {"name": "x"})["id"]
    takes = [
        client.put(f"/api/sessions/{session}/uploads?name=t{k}.wav", beat(length, k + 1))["take"]
        for k, length in enumerate(seconds)
    ]
    if takes:
        settle(client, session)
    return session, takes


def rename(client: Client, session: str, take: str, name: str) -> None:
    """One decision on what the session is now."""
    version = client.get(f"/api/sessions/{session}/picture")["version"]
    client.post(
        f"/api/sessions/{session}/act/take",
        {"version": version, "args": {"take": take, "field": "name", "value": name}},
    )


def settle(client: Client, session: str, seconds: float = 60.0) -> list[str]:
    """Wait until every take of a session is read or refused; the states at the end."""
    end = time.monotonic() + seconds
    states: list[str] = []
    while time.monotonic() < end:
        picture = client.get(f"/api/sessions/{session}/picture")
        states = [take["state"] for take in picture.get("takes", [])] if isinstance(picture, dict) else []
        if states and all(state in ("ready", "failed") for state in states):
            return states
        time.sleep(0.1)
    return states


def kills(folder: Path, rounds: int, rng: random.Random) -> Part:
    """The server and all its processes end by SIGKILL at a random moment, again and again, under decisions
    and uploads.
    """
    part = Part("kill -9 of the server")
    server = Server(folder).start()
    client = Client(server.address, part.count)
    session, (take,) = begun(client, 8)
    acknowledged = ""
    sent = 0
    for number in range(rounds):
        stop = threading.Event()

        def work(number: int = number, stop: threading.Event = stop) -> None:
            nonlocal acknowledged, sent
            k = 0
            while not stop.is_set():
                k += 1
                try:
                    name = f"take {number}.{k}"
                    rename(client, session, take, name)
                    if client.last == 200:
                        acknowledged, sent = name, sent + 1
                    if k % 5 == 0:
                        made = client.post("/api/sessions", {"name": f"s{number}.{k}"})["id"]
                        client.put(f"/api/sessions/{made}/uploads?name=b.wav", beat(2, k))
                        client.post(f"/api/sessions/{made}/duplicate", {})
                except (OSError, KeyError, TypeError):
                    return

        worker = threading.Thread(target=work)
        worker.start()
        time.sleep(rng.uniform(0.05, 1.2))
        below = descendants(server._process.pid) if server._process else set()
        server.kill()
        stop.set()
        worker.join()
        end = time.monotonic() + 5
        while alive(below) and time.monotonic() < end:
            time.sleep(0.05)
        part.count.processes += len(alive(below))
        server = Server(folder).start()
        client.move(server.address)
        found = client.get(f"/api/sessions/{session}/picture")["takes"][0]["name"]
        # The last acknowledged one, or one after it whose answer did not come.
        if _order(found) < _order(acknowledged):
            part.count.lost += 1
    part.count.orphans += orphans(client, server)
    server.stop()
    part.did = f"{rounds} kills, {sent} acknowledged decisions"
    return part


def _order(name: str) -> tuple[int, int]:
    number, _, k = name.removeprefix("take ").partition(".")
    return (int(number), int(k)) if k else (-1, 0)


def orphans(client: Client, server: Server, seconds: float = 600.0) -> int:
    """Sessions on the shelf that do not open, and takes that are not read though no job is left that would
    read them.
    """
    html = client.text("/")
    ids = sorted({part.split('"')[0] for part in html.split('data-session="')[1:]})
    found = 0
    for one in ids:
        if client.status(f"/sessions/{one}") >= 400:
            found += 1
    end = time.monotonic() + seconds
    while client.ask("GET", "/api/health", None, ok=(200, 503))["open_jobs"] and time.monotonic() < end:
        time.sleep(0.5)
    for one in ids:
        picture = client.get(f"/api/sessions/{one}/picture")
        found += any(take["state"] not in ("ready", "failed") for take in picture["takes"])
    return found


def workers_killed(folder: Path, rounds: int, rng: random.Random) -> Part:
    """What reads and what makes sound is killed while it works."""
    part = Part("kill -9 of workers")
    with served(folder) as server:
        client = Client(server.address, part.count)
        session, _ = begun(client)
        killed = 0
        for k in range(rounds):
            client.put(f"/api/sessions/{session}/uploads?name=t{k}.wav", beat(6, k))
            time.sleep(rng.uniform(0.1, 0.8))
            # It may just say that a job could not be started: that is the truth for a second.
            health = client.ask("GET", "/api/health", None, ok=(200, 503))
            victims = descendants(server._process.pid) if server._process else set()
            victim = rng.choice(sorted(victims))
            with contextlib.suppress(ProcessLookupError):
                os.kill(victim, signal.SIGKILL)
                killed += 1
            if not health["jobs"]["alive"]:
                part.count.orphans += 1
        settle(client, session)
        takes = client.get(f"/api/sessions/{session}/picture")["takes"]
        for take in takes:
            if take["state"] == "failed":
                client.post(f"/api/sessions/{session}/takes/{take['id']}/listen-again", {})
        states = settle(client, session)
        part.count.orphans += sum(state != "ready" for state in states)
        sounds = [
            client.status(
                f"/api/sessions/{session}/takes/{takes[0]['id']}/sound?segment={k}&rate=22050&speed=0.8",
                SOUND_S + 1,
            )
            for k in range(3)
        ]
        part.count.orphans += sounds[-1] != 200
        part.did = f"{killed} killed, {len(states)} takes read in the end"
    return part


def hostile(folder: Path, how_many: int, rng: random.Random) -> Part:
    part = Part("hostile files")
    with served(folder) as server:
        client = Client(server.address, part.count)
        session, _ = begun(client)
        refused = 0
        for name, data in hostile_files(how_many, rng):
            if name.endswith(".combpace"):
                answer = client.put(f"/api/archives?name={name}", data, ok=(200, 422))
            else:
                answer = client.put(f"/api/sessions/{session}/uploads?name={name}", data, ok=(200, 422))
            refused += "error" in answer
        states = settle(client, session, 120)
        part.count.orphans += sum(state not in ("ready", "failed") for state in states)
        part.count.orphans += orphans(client, server, 30)
        by_reader, read = states.count("failed"), states.count("ready")
        part.did = (
            f"{how_many} files: {refused} refused at the door, {by_reader} by their reader, {read} read "
            "as far as they go"
        )
    return part


def fuzz(folder: Path, seconds: float, rng: random.Random) -> Part:
    """Every action and every address with real ids, and arguments of every kind."""
    part = Part("fuzz of actions and addresses")
    with served(folder) as server:
        client = Client(server.address, part.count)
        session, ids = begun(client, 8, 4)
        values: list[Any] = [
            None, True, 0, 1, -1, 2, 7, 1.5, -3.25, 1e308, -1e18, 139_000, "", "x", "4/4", "1/8", "0:01.5",
            "\u202e", "😀" * 50, "a" * 3000, [],
            [1.0], [None], {}, {"a": [1]}, "steady", "breathing", "earlier", "strength", "80", *ids,
        ]  # fmt: skip
        asked: dict[str, int] = {}
        version = client.get(f"/api/sessions/{session}/picture")["version"]
        end = time.monotonic() + seconds
        names = sorted(DECISIONS)
        while time.monotonic() < end:
            name = rng.choice(names)
            fields = list(DECISIONS[name].args.model_fields)
            args = {
                one: rng.choice(ids) if one in ("take", "to") and rng.random() < 0.8 else rng.choice(values)
                for one in fields
                if rng.random() < 0.85
            }
            kind = rng.choice(("act", "act", "act", "foresee"))
            answer = client.post(
                f"/api/sessions/{session}/{kind}/{name}",
                {"version": version, "args": args},
                ok=(200, 404, 409, 422),
            )
            asked[name] = asked.get(name, 0) + 1
            version = (
                answer.get("version", answer.get("newest", version)) if isinstance(answer, dict) else version
            )
            if rng.random() < 0.15:
                where = rng.choice(("takes", "pace", "bars", "onsets", "fit", "pieces", "hand-off"))
                client.status(f"/sessions/{session}/{where}?take={rng.choice(ids)}&part=1")
            if rng.random() < 0.1:
                client.post(
                    f"/api/sessions/{session}/act/undo", {"version": version, "args": {}}, ok=(200, 409, 422)
                )
                version = client.get(f"/api/sessions/{session}/picture")["version"]
        routes = walk_routes(client, session, ids, rng)
        part.did = (
            f"{sum(asked.values())} calls of {len(asked)} of {len(names)} actions, {routes} of addresses"
        )
    return part


def walk_routes(client: Client, session: str, ids: list[str], rng: random.Random) -> int:
    """Every address that the application says it has, with ids that exist and values that do not fit."""
    schema = own_schema()
    odd = ["0", "-1", "1", "999999999", "x", "%00", "..%2f..", "1e999", "nan", "", "a" * 500]
    calls = 0
    for path, methods in sorted(schema["paths"].items()):
        for method in methods:
            for _ in range(4):
                address = path
                for name in [part.split("}")[0] for part in path.split("{")[1:]]:
                    real = {"session_id": session, "take_id": ids[0], "station": "bars"}.get(name, "0" * 16)
                    address = address.replace(
                        "{" + name + "}", real if rng.random() < 0.75 else (rng.choice(odd) or "x")
                    )
                query = "&".join(
                    f"{one['name']}={rng.choice(odd)}"
                    for one in methods[method].get("parameters", [])
                    if one["in"] == "query" and rng.random() < 0.8
                )
                body = (
                    None
                    if method in ("get", "delete")
                    else rng.choice(
                        [{}, [], None, "x", {"version": 1}, {"name": "x"}, {"args": {}, "version": -5}]
                    )
                )
                client.ask(method.upper(), f"{address}?{query}", body, ok=None)
                calls += 1
    return calls


def own_schema() -> dict[str, Any]:
    """What the application says of its addresses, without the event streams: they have a part of their
    own.
    """
    with tempfile.TemporaryDirectory() as empty:
        app = create_app(replace(Settings(), data_dir=Path(empty)), with_jobs=False)
        schema = app.openapi()
        app.state.previewer.close()
        app.state.folder.close()
    schema["paths"] = {
        path: methods for path, methods in schema["paths"].items() if not path.endswith("/events")
    }
    return schema


def four_clients(folder: Path, each: int, rng: random.Random) -> Part:
    part = Part("4 clients on one session")
    with served(folder) as server:
        first = Client(server.address, part.count)
        session, (take,) = begun(first, 6)
        from_version = first.get(f"/api/sessions/{session}/picture")["version"]
        done, stale = [0] * 4, [0] * 4

        def work(number: int) -> None:
            client = Client(server.address, part.count)
            version = from_version
            for k in range(each):
                args = {"take": take, "field": "name", "value": f"{number} {k}"}
                answer = client.post(
                    f"/api/sessions/{session}/act/take", {"version": version, "args": args}, ok=(200, 409)
                )
                if "error" in answer:
                    stale[number] += 1
                    version = answer["newest"]
                else:
                    done[number] += 1
                    version = answer["version"]

        threads = [threading.Thread(target=work, args=(number,)) for number in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        ended = first.get(f"/api/sessions/{session}/picture")["version"]
        part.count.lost += abs(ended - from_version - sum(done))
        part.did = (
            f"{sum(done)} kept, {sum(stale)} told that another was quicker, {ended - from_version} versions"
        )
    return part


def streams(folder: Path, many: int) -> Part:
    """So many pages listen for news; whoever asks for a page is answered, and news come to all."""
    part = Part("event streams")
    with served(folder) as server:
        client = Client(server.address, part.count)
        session, _ = begun(client)
        host, port = server.address.removeprefix("http://").split(":")
        import socket

        open_ones = []
        for _ in range(many):
            one = socket.create_connection((host, int(port)), timeout=10)
            one.sendall(f"GET /api/sessions/{session}/events HTTP/1.1\r\nHost: {host}\r\n\r\n".encode())
            open_ones.append(one)
        time.sleep(1.0)
        for _ in range(10):
            client.status(f"/sessions/{session}/takes")
        client.post(f"/api/sessions/{session}/act/undo", {"version": 1, "args": {}}, ok=(200, 409, 422))
        client.put(f"/api/sessions/{session}/uploads?name=a.wav", beat(2))
        version = client.get(f"/api/sessions/{session}/picture")["version"]
        told = 0
        end = time.monotonic() + 20
        texts = [b""] * many
        while told < many and time.monotonic() < end:
            told = 0
            for k, one in enumerate(open_ones):
                one.setblocking(False)
                with contextlib.suppress(BlockingIOError):
                    texts[k] += one.recv(65536)
                told += (
                    f"event: version\r\ndata: {version}".encode() in texts[k]
                    or f"event: version\ndata: {version}".encode() in texts[k]
                )
            time.sleep(0.1)
        for one in open_ones:
            one.close()
        part.count.lost += many - told
        memory = (
            int(Path(f"/proc/{server._process.pid}/statm").read_text().split()[1]) * 4096 / 2**20
            if server._process
            else 0
        )
        part.did = f"{many} streams, news came to {told}; the server held {memory:.0f} MB"
    return part


def full_disk(rooms: tuple[int, ...]) -> Part:
    part = Part("disk filled")
    place = Path(tempfile.mkdtemp())
    if (
        os.geteuid() != 0
        or subprocess.run(
            ["mount", "-t", "tmpfs", "-o", "size=40m", "none", str(place)], capture_output=True, check=False
        ).returncode
    ):
        place.rmdir()
        part.skipped = "no tmpfs can be mounted here"
        return part
    try:
        with served(place / "data") as server:
            client = Client(server.address, part.count)
            session, (take,) = begun(client, 8)
            ok = (200, 409, 422, 503, 507)
            full, refused = place / "fill", 0
            for left in rooms:
                _fill(full, place, left)
                version = client.get(f"/api/sessions/{session}/picture")["version"]
                calls: list[Callable[[], Any]] = [
                    lambda: client.put(f"/api/sessions/{session}/uploads?name=b.wav", beat(20, 3), ok=ok),
                    lambda: client.post("/api/sessions", {"name": "y"}, ok=ok),
                    lambda version=version: client.post(
                        f"/api/sessions/{session}/render", {"version": version, "take": take}, ok=ok
                    ),  # type: ignore[misc]
                    lambda: client.post(f"/api/sessions/{session}/duplicate", {}, ok=ok),
                    lambda: client.ask("GET", f"/api/sessions/{session}/archive", None, ok=ok),
                    lambda: client.status("/"),
                    lambda: client.status(f"/sessions/{session}/bars"),
                ]
                for call in calls:
                    answer = call()
                    refused += isinstance(answer, dict) and "is full" in str(answer.get("error", ""))
                settle(client, session, 4)
                if not left:
                    # A start, and a look from the command line, on a disk without room.
                    for command in (
                        ["serve", "--port", "0", "--data", str(place / "other")],
                        ["session", "list", "--data", str(place / "other")],
                    ):
                        done = subprocess.run(
                            [sys.executable, "-m", "combpace.cli", *command],
                            capture_output=True,
                            text=True,
                            timeout=30,
                            check=False,
                        )
                        part.count.lost += done.returncode != 2 or len(done.stderr.splitlines()) != 1
                full.unlink()
            time.sleep(1.5)
            rename(client, session, take, "after")
            client.put(f"/api/sessions/{session}/uploads?name=c.wav", beat(3, 4))
            part.count.orphans += orphans(client, server, 30)
            part.did = f"{refused} sentences that name the disk; afterwards decisions and uploads go on"
    finally:
        subprocess.run(["umount", "-l", str(place)], check=False)
        shutil.rmtree(place, ignore_errors=True)
    return part


def _fill(path: Path, place: Path, left: int) -> None:
    with path.open("wb", buffering=0) as out, contextlib.suppress(OSError):
        while True:
            found = os.statvfs(place)
            room = found.f_bavail * found.f_frsize - left
            if room <= 0:
                return
            out.write(b"x" * min(room, 1 << 20))


def clock(folder: Path) -> Part:
    """The machine's clock is set back by an hour between edits, and forward by a day."""
    part = Part("clock moved")
    library = next((path for path in Path("/usr/lib").rglob("libfaketime.so.1")), None)
    if library is None:
        part.skipped = "libfaketime is not installed"
        return part
    setting = folder.with_suffix(".setting")
    setting.write_text("+0")
    given = {
        "LD_PRELOAD": str(library),
        "FAKETIME_TIMESTAMP_FILE": str(setting),
        "FAKETIME_NO_CACHE": "1",
        "DONT_FAKE_MONOTONIC": "1",
    }
    before = {name: os.environ.get(name) for name in given}
    os.environ.update(given)
    try:
        server = Server(folder).start()
    finally:
        for name, value in before.items():
            os.environ.pop(name, None) if value is None else os.environ.__setitem__(name, value)
    try:
        client = Client(server.address, part.count)
        session, (take,) = begun(client, 6)
        for shift in ("-3600s", "-3600s", "+86400s", "-1d"):
            setting.write_text(shift)
            rename(client, session, take, f"at {shift}")
            client.put(f"/api/sessions/{session}/uploads?name=b.wav", beat(3, 7))
            states = settle(client, session, 30)
            part.count.orphans += sum(state != "ready" for state in states)
        # Each edit is a step of its own.
        undone = 0
        while True:
            picture = client.get(f"/api/sessions/{session}/picture")
            if not picture["can_undo"]:
                break
            client.post(f"/api/sessions/{session}/act/undo", {"version": picture["version"], "args": {}})
            undone += 1
        part.count.lost += abs(undone - 9)
        # The library reads its setting at every look at the clock: nothing is quick then.
        part.count.slow = 0
        part.did = f"4 moves of the clock, {undone} steps undone one by one"
    finally:
        server.stop()
    return part


def compared(folder: Path, name: str, work: Callable[[str, Count, int], str]) -> Part:
    """One of the parts that compare what comes back, on a server of its own."""
    part = Part(name)
    with served(folder) as server:
        assert server._process is not None
        part.did = work(server.address, part.count, server._process.pid)
    return part


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", action="store_true", help="two minutes of it, as `make soak` has it")
    parser.add_argument("--short", action="store_true", help="half a minute: a kill, actions at random")
    parser.add_argument("--seed", type=int, default=20)
    parser.add_argument("--json", type=Path)
    parser.add_argument("--only", type=int, nargs="*", help="parts by their number, from 0")
    options = parser.parse_args()
    rng = random.Random(options.seed)
    short = options.short or options.minutes
    parts: list[Part] = []
    with tempfile.TemporaryDirectory() as place:
        root = Path(place)
        todo: list[Callable[[], Part]] = [
            lambda: kills(root / "kills", 1 if short else 100, rng),
            lambda: workers_killed(root / "workers", 3 if short else 30, rng),
            lambda: hostile(root / "hostile", 12 if short else 100, rng),
            lambda: fuzz(root / "fuzz", 1 if options.short else 4 if short else 240, rng),
            lambda: four_clients(root / "four", 8 if short else 100, rng),
            lambda: streams(root / "streams", 40 if short else 200),
            lambda: full_disk((0,) if short else (0, 300_000, 1_000_000)),
            lambda: compared(
                root / "bytes",
                "bytes under their names",
                lambda at, count, pid: right_bytes(at, count, begun),
            ),
            lambda: compared(
                root / "archives",
                "fuzz of archives",
                lambda at, count, pid: archives(at, count, begun, 40 if short else 500, rng),
            ),
            lambda: compared(root / "bombs", "bombs", lambda at, count, pid: bombs(at, count, begun, pid)),
            lambda: compared(
                root / "locked",
                "database locked",
                lambda at, count, pid: locked(
                    at, count, begun, root / "locked" / "combpace.db", 4 if short else 20
                ),
            ),
            lambda: clock(root / "clock"),
        ]
        if options.only:
            todo = [todo[k] for k in options.only]
        elif short:
            todo.pop()
        if options.short and not options.only:
            todo = [todo[0], todo[3]]
        print(
            "| part | what was done | lost | 5xx | slow | orphans | processes left | slowest, s "
            "|\n|---|---|---|---|---|---|---|---|"
        )
        for run in todo:
            part = run()
            parts.append(part)
            count = part.count
            numbers = (
                f"{count.lost} | {count.faults} | {count.slow} | {count.orphans} | {count.processes} | "
                f"{count.slowest:.2f}"
            )
            print(
                f"| {part.name} | {(part.skipped and 'skipped: ' + part.skipped) or part.did} | {numbers} |",
                flush=True,
            )
            for line in count.said[:12]:
                print("   ", line, flush=True)
    if options.json:
        options.json.write_text(
            json.dumps(
                [
                    {"name": part.name, "did": part.did, "skipped": part.skipped, **vars(part.count)}
                    for part in parts
                ]
            )
        )
    return 1 if any(part.count.bad(timed=not short) for part in parts) else 0


if __name__ == "__main__":
    raise SystemExit(main())
