"""Every decision a page can take, by name: its arguments and the use case behind it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pydantic import ValidationError

from combpace.core.errors import NotFoundError, ParameterError
from combpace.services import bars, fit, onsets, sessions, takes, words
from combpace.services.workplace import Workplace
from combpace.store.history import Revision
from combpace.web.schemas import actions as a

Run = Callable[[Workplace, str, int, Any], Revision]


def _steady(place: Workplace, session: str, version: int, x: a.Steady) -> Revision:
    bpm = None if x.bpm is None else words.read_number(x.bpm, "The tempo", 5, 1000)
    start = x.bar_1_s if isinstance(x.bar_1_s, float | int | None) else words.read_clock(x.bar_1_s)
    return bars.make_steady(place, session, version, bpm, start, nudged=x.nudged)


ACTIONS: dict[str, tuple[type[a.Args], Run]] = {
    "undo": (a.Nothing, lambda p, s, v, x: sessions.undo(p, s, v, forwards=False)),
    "redo": (a.Nothing, lambda p, s, v, x: sessions.undo(p, s, v, forwards=True)),
    "bar-1": (a.Moment, lambda p, s, v, x: bars.set_bar_1(p, s, v, x.time_s)),
    "bar": (a.BarAt, lambda p, s, v, x: bars.set_bar(p, s, v, x.time_s, x.bar)),
    "downbeat": (a.Moment, lambda p, s, v, x: bars.set_downbeat(p, s, v, x.time_s)),
    "pull": (a.Pull, lambda p, s, v, x: bars.pull(p, s, v, x.time_s, x.quarters, caught_on=not x.free)),
    "release": (a.Place, lambda p, s, v, x: bars.release(p, s, v, x.quarters)),
    "lock": (a.Lock, lambda p, s, v, x: bars.lock(p, s, v, x.quarters, x.locked)),
    "meter": (a.MeterText, lambda p, s, v, x: bars.set_meter(p, s, v, x.meter, x.bar)),
    "scale": (a.Factor, lambda p, s, v, x: bars.scale(p, s, v, x.factor, x.bar)),
    "read-again": (
        a.About,
        lambda p, s, v, x: bars.read_again(p, s, v, words.read_number(x.about_bpm, "The tempo", 30, 300)),
    ),
    "steady": (a.Steady, _steady),
    "breathing": (a.Nothing, lambda p, s, v, x: bars.make_breathing(p, s, v)),
    "take": (a.TakeField, lambda p, s, v, x: takes.change_take(p, s, v, x.take, x.field, x.value)),
    "take-remove": (a.Take, lambda p, s, v, x: takes.remove_take(p, s, v, x.take)),
    "bundle": (a.Bundle, lambda p, s, v, x: takes.bundle(p, s, v, x.takes, x.name)),
    "onset-add": (a.MarkAt, lambda p, s, v, x: onsets.add(p, s, v, x.take, x.time_s)),
    "onset-move": (a.MarkMove, lambda p, s, v, x: onsets.move(p, s, v, x.take, x.from_s, x.to_s)),
    "onset-remove": (a.Marks, lambda p, s, v, x: onsets.remove(p, s, v, x.take, x.times_s)),
    "onset-lock": (a.Marks, lambda p, s, v, x: onsets.lock(p, s, v, x.take, x.times_s)),
    "threshold": (
        a.Threshold,
        lambda p, s, v, x: onsets.set_threshold(p, s, v, x.take, words.read_number(x.threshold, "The threshold", 0, 1)),
    ),
    "rule": (a.TakeField, lambda p, s, v, x: fit.change_rule(p, s, v, x.take, x.field, x.value)),
    "peg": (a.PegAt, lambda p, s, v, x: fit.add_peg(p, s, v, x.take, x.take_s, x.quarters, x.session_s)),
    "ride": (a.Marks, lambda p, s, v, x: fit.let_ride(p, s, v, x.take, x.times_s)),
    "keep": (a.Take, lambda p, s, v, x: fit.keep(p, s, v, x.take)),
    "drop": (a.Take, lambda p, s, v, x: fit.drop(p, s, v, x.take)),
}


def act(place: Workplace, session_id: str, name: str, body: a.Act) -> Revision:
    """Check the arguments and run one action."""
    if name not in ACTIONS:
        raise NotFoundError(f"There is no action “{name}”.")
    model, run = ACTIONS[name]
    try:
        args = model.model_validate(body.args)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise ParameterError(f"This cannot be used: {where or 'a value'}: {first['msg']}. Nothing was changed.") from error
    return run(place, session_id, body.version, args)
