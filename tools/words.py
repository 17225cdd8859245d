"""Prints every string that a person may read (interface, command line, report, messages), with its place, to be gone through."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

SOURCE = Path(__file__).resolve().parents[1] / "src" / "mandorla"


def strings(path: Path) -> Iterator[tuple[int, str]]:
    """Line and text of every string of a module that reads like words; documentation and identifiers are left out.

    The pieces of an f-string stand together, with ``{…}`` where a value goes.
    """
    tree = ast.parse(path.read_text(encoding="utf-8"))
    inside = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            inside.add(id(node.value))  # a docstring
        if isinstance(node, ast.JoinedStr):
            inside |= {id(v) for v in node.values}
    for node in ast.walk(tree):
        if isinstance(node, ast.JoinedStr):
            parts = (v.value if isinstance(v, ast.Constant) else "{…}" for v in node.values)
            text = "".join(str(p) for p in parts)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in inside:
            text = node.value
        else:
            continue
        if " " in text.strip() or text[:1].isupper():
            yield node.lineno, text


def visible() -> Iterator[tuple[str, int, str]]:
    """File, line and text of everything that may be seen."""
    for path in sorted(SOURCE.rglob("*.py")):
        for line, text in strings(path):
            yield str(path.relative_to(SOURCE)), line, text


def main() -> int:
    """Print them all."""
    for file, line, text in visible():
        print(f"{file}:{line}: {text!r}")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
