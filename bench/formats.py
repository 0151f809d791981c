"""The list of decisions in docs/formats.md, made from the decisions themselves: `.venv/bin/python -m
bench.formats --write`.
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

from combpace.session.decisions import DECISIONS, MOVES
from combpace.stations import registry

FORMATS = Path(__file__).resolve().parents[1] / "docs" / "formats.md"
BEGIN, END = "<!-- decisions -->", "<!-- end of decisions -->"


def listed() -> str:
    """A line a decision: name, arguments, what it does."""
    assert registry.STATIONS
    lines = [
        "| name | arguments | what it does |",
        "|---|---|---|",
        *(f"| `{name}` | | one step in the history |" for name in MOVES),
    ]
    for one in DECISIONS.values():
        schema = one.args.model_json_schema()
        needed = set(schema.get("required", ()))
        args = ", ".join(
            f"`{name}`{'' if name in needed else '?'} {_type(kind)}"
            for name, kind in schema.get("properties", {}).items()
        )
        first = " ".join((one.run.__doc__ or "").split("\n\n")[0].split())
        lines.append(f"| `{one.name}` | {args} | {first} |")
    return "\n".join(lines)


def _type(kind: dict[str, Any]) -> str:
    if "anyOf" in kind:
        return " or ".join(dict.fromkeys(_type(one) for one in kind["anyOf"]))
    if "prefixItems" in kind:
        return f"[{', '.join(_type(one) for one in kind['prefixItems'])}]"
    name = {
        "string": "text",
        "array": "list",
        "boolean": "true/false",
        "integer": "whole number",
        "null": "null",
    }.get(kind["type"], kind["type"])
    return f"list of {_type(kind['items'])}" if name == "list" else name


def written(text: str) -> str:
    """The page with the list as it is now."""
    before, _, rest = text.partition(BEGIN)
    return f"{before}{BEGIN}\n{listed()}\n{END}{rest.partition(END)[2]}"


if __name__ == "__main__":
    page = FORMATS.read_text(encoding="utf-8")
    if "--write" in sys.argv:
        FORMATS.write_text(written(page), encoding="utf-8")
    else:
        print(listed())
