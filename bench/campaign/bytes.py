"""Parts of the campaign that compare what comes back: bytes under their names, archives and bombs, waits."""

from __future__ import annotations

import io
import json
import random
import sqlite3
import threading
import time
import zipfile
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import mido
import psutil

from bench.campaign.client import QUICK_S, Client, Count
from rig.hostile_archives import Archive

RATE, CLIENTS = 22050, 8
# What the server holds throughout, and what others wait while an archive is read. Bytes, seconds.
MOST_MEMORY, MOST_BESIDE_S = 600 * 2**20, 0.5
STATIONS = ("takes", "pace", "bars", "onsets", "fit", "pieces", "hand-off")
Begun = Callable[..., tuple[str, list[str]]]


def act(client: Client, session: str, name: str, args: dict[str, Any], ok: tuple[int, ...] = (200,)) -> None:
    """One decision on what the session is now."""
    version = client.get(f"/api/sessions/{session}/picture")["version"]
    client.post(f"/api/sessions/{session}/act/{name}", {"version": version, "args": args}, ok)


def whole_session(client: Client, begun: Begun) -> tuple[str, list[str]]:
    """A session with what there is to be said of takes: a rule, marks, a loop in pieces."""
    session, takes = begun(client, 12, 9, 6)
    lead, loose, cut = takes
    for arrival in client.get(f"/api/sessions/{session}/picture")["arrivals"]:
        act(client, session, "arrival-keep", {"take": arrival["id"]})
    for name, args in (
        ("rule", {"take": loose, "field": "strength", "value": "90"}),
        ("onset-add", {"take": lead, "time_s": 1.63}),
        ("peg", {"take": loose, "take_s": 1.0, "session_s": 1.03}),
        ("cut-and-lay", {"take": cut, "at": "beats", "lay": "1/4"}),
        ("piece-own", {"take": cut, "number": 1}),
    ):
        act(client, session, name, args, (200, 422))
    return session, takes


def addresses(client: Client, session: str, takes: list[str]) -> list[str]:
    """Every address of sound, peaks, picture, pauses, stack, readings, with a dozen parameters each;
    sounds by the names that they have now.
    """
    base, found = f"/api/sessions/{session}", []
    for take in takes:
        picture = client.get(f"{base}/picture?focus={take}")
        known = (picture["fit"] or {}).get("names", {}).get(take)
        every = [*picture["takes"], *picture["arrivals"]]
        facts = next(one for one in every if one["id"] == take)
        names = known or facts["sounds"]
        for segment in range(4):
            for speed, fitted, name in (
                (1.0, False, "played"), (0.5, False, "slowed"), (0.8, True, "fitted_slowed"),
                (1.0, True, "fitted"),
            ):  # fmt: skip
                if names[name]:
                    found.append(
                        f"{base}/takes/{take}/sound?segment={segment}&rate={RATE}&speed={speed}"
                        f"&fitted={str(fitted).lower()}&v={names[name]}"
                    )
        found += [f"/api/takes/{take}/peaks?size={size}&first=3&count=300" for size in (1, 32, 256)]
        found += [f"{base}/takes/{take}/pauses?limits={limits}" for limits in ("50,80", "30,40")]
        found += [f"{base}/picture?focus={take}", f"{base}/picture?focus={take}&short=true&at=0"]
        if facts["pieces"]:
            found += [
                f"/api/takes/{take}/laid/{facts['pieces']}/peaks?size={size}&count=300" for size in (1, 32)
            ]
    found += [f"{base}/stack?on=1/16", f"{base}/activation", f"{base}/weave?columns=64", f"{base}/readings"]
    return [*found, f"{base}/measure?from_s=1&to_s=5", *(f"{base}/look?station={one}" for one in STATIONS)]


def right_bytes(address: str, count: Count, begun: Begun) -> str:
    """Ask by many at once and one by one, before and after steps of the history; what differs counts as lost.
    Returns what was done.
    """
    client = Client(address, count)
    session, takes = whole_session(client, begun)
    lead, loose, cut = takes
    asked = 0
    known: dict[str, bytes] = {}
    steps: list[tuple[str, dict[str, Any]]] = [
        ("", {}), ("undo", {}), ("redo", {}), ("onset-add", {"take": lead, "time_s": 2.11}), ("undo", {}),
        ("rule", {"take": loose, "field": "strength", "value": "40"}), ("bar-1", {"time_s": 0.5}),
        ("piece-level", {"take": cut, "number": 2, "level_db": -4.0}),
        ("bundle", {"takes": [lead, loose], "name": "kit"}), ("undo", {}), ("undo", {}), ("undo", {}),
    ]  # fmt: skip
    for name, args in steps:
        if name:
            act(client, session, name, args, (200, 422))
        where = addresses(client, session, takes)
        orders = [random.Random(k).sample(where, len(where)) for k in range(CLIENTS)]

        def ask(order: list[str]) -> list[tuple[str, bytes]]:
            mine = Client(address, count)
            found = [(one, mine.raw(one)) for one in order]
            # Busy is no sound, and what another name has by now is none either; both are said.
            return [(one, body) for one, (status, body) in found if status == 200]

        with ThreadPoolExecutor(CLIENTS) as pool:
            many = list(pool.map(ask, orders))
        alone = dict(ask(where))
        for found in many:
            for one, body in found:
                asked += 1
                # A sound is named for good: also later, and by whoever asked before.
                kept = (
                    known.setdefault(one, alone.get(one, body)) if "/sound?" in one else alone.get(one, body)
                )
                if body != kept:
                    count.lost += 1
                    count.said.append(f"other bytes: {one[:160]}")
    return f"{asked:,} answers of {CLIENTS} clients compared, before and after {len(steps) - 1} steps"


def archives(address: str, count: Count, begun: Begun, changes: int, rng: random.Random) -> str:
    """Archives with one value changed and right hashes: refused, or sessions like any other."""
    client = Client(address, count)
    session, _ = whole_session(client, begun)
    client.put(f"/api/sessions/{session}/uploads?name=line.mid", notes())
    whole = Archive(bytes(client.ask("GET", f"/api/sessions/{session}/archive")))
    taken = 0
    for _ in range(changes):
        said, data = whole.changed(rng)
        answer = client.put("/api/archives?name=x", data, ok=(200, 422))
        if "id" not in answer:
            continue
        taken, made, before = taken + 1, answer["id"], len(count.said)
        for path in ("/", *(f"/sessions/{made}/{one}" for one in STATIONS)):
            client.status(path)
        picture = client.raw(f"/api/sessions/{made}/picture")[1]
        try:
            json.loads(picture, parse_constant=_none)
        except ValueError:
            count.faults += 1
            count.said.append("a number in the picture that is none")
        count.said += [f"   by {said}"] if len(count.said) > before else []
        client.ask("DELETE", f"/api/sessions/{made}")
    return f"{changes} archives with right hashes and one value changed: {taken} opened, all others refused"


def bombs(address: str, count: Count, begun: Begun, pid: int) -> str:
    """What comes to far more than it looks; meanwhile somebody else works."""
    client = Client(address, count)
    session, _ = begun(client, 4)
    lots = _bombs()
    stop, waits = threading.Event(), [0.0]

    def beside() -> None:
        mine = Client(address, Count())
        while not stop.is_set():
            begin = time.monotonic()
            mine.status(f"/api/sessions/{session}/picture")
            waits.append(time.monotonic() - begin)
            time.sleep(0.02)

    other = threading.Thread(target=beside)
    other.start()
    slowest = 0.0
    for name, path, data in lots:
        begin = time.monotonic()
        client.put(path.format(session=session, name=name), data, ok=(422, 413))
        slowest = max(slowest, time.monotonic() - begin)
    stop.set()
    other.join()
    memory = psutil.Process(pid).memory_info().rss
    if memory > MOST_MEMORY:
        count.lost += 1
        count.said.append(f"the server holds {memory / 2**20:.0f} MB")
    if max(waits) > MOST_BESIDE_S:
        count.slow += 1
        count.said.append(f"somebody else waited {max(waits):.2f} s")
    return (
        f"{len(lots)} refused, the slowest after {slowest:.1f} s; others waited {max(waits):.2f} s at "
        f"most, the server held {memory / 2**20:.0f} MB"
    )


def _bombs() -> list[tuple[str, str, bytes]]:
    """(name, address, bytes)."""
    zeros = io.BytesIO()
    with zipfile.ZipFile(zeros, "w", zipfile.ZIP_DEFLATED) as pack:
        pack.writestr("manifest.json", "{}")
        with pack.open("blobs/" + "a" * 64, "w", force_zip64=True) as entry:
            for _ in range(1024):
                entry.write(bytes(2**20))
    brackets, flat = io.BytesIO(), io.BytesIO()
    with zipfile.ZipFile(brackets, "w") as pack:
        pack.writestr("manifest.json", b"[" * 60_000_000)
    with zipfile.ZipFile(flat, "w") as pack:
        pack.writestr("manifest.json", b"[" + b"[],{}," * 10_000_000 + b"0]")
    tempi = b"\x01\xff\x51\x03\x07\xa1\x20" * 4_000_000 + b"\x00\xff\x2f\x00"
    many = b"\x00\x90\x3c\x64" + b"\x01\x3c\x00\x01\x3c\x64" * 5_000_000 + b"\x00\xff\x2f\x00"

    def smf(data: bytes) -> bytes:
        return b"MThd\x00\x00\x00\x06\x00\x01\x00\x01\x01\xe0MTrk" + len(data).to_bytes(4, "big") + data

    lines = b"".join(b"%d.5\n" % k for k in range(1_500_000))
    archive, session = "/api/archives?name={name}", "/api/sessions/{session}/"
    return [
        ("zeros", archive, zeros.getvalue()),
        ("brackets", archive, brackets.getvalue()),
        ("flat", archive, flat.getvalue()),
        ("tempi.mid", session + "map-file?name={name}", smf(tempi)),
        ("notes.mid", session + "uploads?name={name}", smf(many)),
        ("lines.csv", session + "map-file?name={name}", lines),
        ("deep.json", session + "map-file?name={name}", b"[" * 100_000 + b"]" * 100_000),
    ]


def locked(address: str, count: Count, begun: Begun, database: Path, seconds: float) -> str:
    """The database held by somebody else, and many who would write: pages that only read come at once."""
    client = Client(address, count)
    session, (take,) = begun(client, 4)
    client.status("/")
    stop = threading.Event()
    writers = Count()

    def write(number: int) -> None:
        mine = Client(address, writers)
        body = {"version": 1, "args": {"take": take, "field": "name", "value": f"n{number}"}}
        while not stop.is_set():
            mine.ask("POST", f"/api/sessions/{session}/act/take", body, (200, 409, 503), 60.0)

    held = sqlite3.connect(database, isolation_level=None, timeout=30)
    held.execute("BEGIN IMMEDIATE")
    threads = [threading.Thread(target=write, args=(k,)) for k in range(80)]
    for thread in threads:
        thread.start()
    pages, end = 0, time.monotonic() + seconds
    while time.monotonic() < end:
        for path in ("/", f"/sessions/{session}/bars", f"/api/sessions/{session}/picture"):
            client.ask("GET", path, None, (200,), QUICK_S)
            pages += 1
        time.sleep(0.2)
    held.execute("ROLLBACK")
    held.close()
    stop.set()
    for thread in threads:
        thread.join()
    count.faults += writers.faults
    count.said += writers.said[:5]
    return f"held for {seconds:g} s under 80 writers: {pages} pages, the slowest after {count.slowest:.2f} s"


def notes() -> bytes:
    """A MIDI file of one part."""
    file = mido.MidiFile(ticks_per_beat=480)
    track = mido.MidiTrack()
    for k in range(12):
        track.append(mido.Message("note_on", note=60 + k, time=0))
        track.append(mido.Message("note_off", note=60 + k, time=240))
    file.tracks.append(track)
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def _none(name: str) -> Any:
    raise ValueError(name)
