"""Pages, wire and guard: the only room that knows HTTP."""
