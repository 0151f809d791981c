"""The scripts' types from the forms of what a page is sent: `.venv/bin/python -m bench.wire_types [--check]`.

Writes static/js/wire.d.ts from `combpace.session.page_forms`; --check only says whether it is current.
"""

from __future__ import annotations

import argparse
import ast
import inspect
import types
import typing
from pathlib import Path
from typing import Any

from combpace.session import page_forms

PATH = Path(inspect.getfile(page_forms)).parents[1] / "web" / "static" / "js" / "wire.d.ts"
# Which forms a form is made from: a TypedDict itself has forgotten it in Python 3.11.
BASES = {
    node.name: [base.id for base in node.bases if isinstance(base, ast.Name) and base.id != "TypedDict"]
    for node in ast.parse(inspect.getsource(page_forms)).body
    if isinstance(node, ast.ClassDef)
}
PLAIN = {str: "string", int: "number", float: "number", bool: "boolean", type(None): "null", Any: "any"}


def script_type(kind: Any) -> str:
    """The script's type of a Python one. Raises TypeError for one that JSON does not have."""
    if kind in PLAIN:
        return PLAIN[kind]
    if typing.is_typeddict(kind):
        return str(kind.__name__)
    origin, inside = typing.get_origin(kind), typing.get_args(kind)
    if origin is list:
        inner = script_type(inside[0])
        return f"({inner})[]" if "|" in inner else f"{inner}[]"
    if origin is dict and inside[0] is str:
        return f"Record<string, {script_type(inside[1])}>"
    if origin in (types.UnionType, typing.Union):
        return " | ".join(script_type(one) for one in inside)
    raise TypeError(f"{kind!r} is nothing that a page can be sent.")


def interface(form: Any) -> str:
    """One form as an interface, with its docstring; what it has from other forms it extends."""
    bases = BASES[form.__name__]
    had = {name for base in bases for name in typing.get_type_hints(vars(page_forms)[base])}
    lines = [
        f"/** {line}" if not k else f" *  {line}" for k, line in enumerate(inspect.getdoc(form).splitlines())
    ]
    lines = [line.rstrip() for line in lines]
    fields = [
        f"  {name}{'' if name in form.__required_keys__ else '?'}: {script_type(kind)};"
        for name, kind in typing.get_type_hints(form).items()
        if name not in had
    ]
    extends = f" extends {', '.join(bases)}" if bases else ""
    head = f"export interface {form.__name__}{extends} {{"
    body = [head, *fields, "}"] if fields else [f"{head}}}"]
    return "\n".join([*lines[:-1], f"{lines[-1]} */", *body])


def made() -> str:
    """The whole file."""
    forms = [one for one in vars(page_forms).values() if typing.is_typeddict(one)]
    head = "// Made by `make types` from combpace/session/page_forms.py: change that, not this.\n\n"
    return head + "\n\n".join(interface(form) for form in forms) + "\n"


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--check", action="store_true")
    options = parser.parse_args()
    if options.check:
        current = PATH.exists() and PATH.read_text(encoding="utf-8") == made()
        print("current" if current else f"{PATH.name} is not what the forms say: run `make types`.")
        return 0 if current else 1
    PATH.write_text(made(), encoding="utf-8")
    print(f"{PATH}: {made().count('export interface')} types")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
