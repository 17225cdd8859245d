"""Digests of what a result depends on: two projects with equal digests have equal results."""

from __future__ import annotations

import hashlib
import threading
from collections import OrderedDict
from collections.abc import Iterator
from typing import Any, Final

from pydantic import BaseModel

from mandorla.core.project.store import Bundle
from mandorla.core.results.key import Key

Digest = bytes
_KEPT: Final = 512  # objects whose digest is known: those of a few states of a project, files too; it keeps them alive
_FILE_FIELDS: Final = ("file", "gcode", "map")


def _hash(*parts: bytes) -> Digest:
    made = hashlib.blake2b(digest_size=16)
    for part in parts:
        made.update(len(part).to_bytes(8, "little"))
        made.update(part)
    return made.digest()


class _Known:
    """Digests of immutable objects by identity; the object is kept, so that its identity is not given to another."""

    def __init__(self) -> None:
        self._kept: OrderedDict[int, tuple[object, tuple[Digest, tuple[str, ...]]]] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, value: object) -> tuple[Digest, tuple[str, ...]]:
        """Digest of a value and the names of the files that it mentions."""
        with self._lock:
            found = self._kept.get(id(value))
            if found is not None and found[0] is value:
                self._kept.move_to_end(id(value))
                return found[1]
        made = (_hash(_text(value)), tuple(_files(value)))
        with self._lock:
            self._kept[id(value)] = (value, made)
            self._kept.move_to_end(id(value))
            while len(self._kept) > _KEPT:
                self._kept.popitem(last=False)
        return made


_KNOWN: Final = _Known()


def _text(value: object) -> bytes:
    if isinstance(value, BaseModel):
        return value.model_dump_json().encode()
    if isinstance(value, bytes):
        return value
    if isinstance(value, tuple):
        return b"(" + b",".join(_text(v) for v in value) + b")"
    return repr(value).encode()


def _files(value: object) -> Iterator[str]:
    if isinstance(value, BaseModel):
        for name in type(value).model_fields:
            child = getattr(value, name)
            if name in _FILE_FIELDS and isinstance(child, str):
                yield child
            elif isinstance(child, BaseModel | tuple):
                yield from _files(child)
    elif isinstance(value, tuple):
        for item in value:
            yield from _files(item)


def value_at(bundle: Bundle, path: str, key: Key[Any]) -> object:
    """The value of a project at a path that a key reads; None where a part of the way does not exist."""
    here: Any = bundle.project
    for name in path.split("."):
        if here is None:
            return None
        if isinstance(here, tuple):
            wanted = key[name[1:-1]] if name.startswith("{") else name
            here = next(
                (item for item in here if wanted in (getattr(item, "key", None), getattr(item, "name", None))), None
            )
        else:
            here = getattr(here, name)
    return here


def digest_of(
    key: Key[Any], bundle: Bundle, known: dict[Key[Any], Digest] | None = None, prints: Digest = b""
) -> Digest:
    """Digest of everything that a result depends on: name, parameters, what it reads, files by content, what it needs.

    Parameters
    ----------
    key
        The result with its parameters.
    bundle
        The project with its originals.
    known
        Digests of this very project that were made before; those that are made now are added.
    prints
        Digest of what the workshop's prints have taught.

    Returns
    -------
    bytes
        16 bytes; equal for equal results.
    """
    known = {} if known is None else known
    if key in known:
        return known[key]
    parts = [key.name.encode(), repr(key.parameters).encode()]
    for path in key.reads:
        value = value_at(bundle, path, key)
        own, files = _KNOWN.get(value) if isinstance(value, BaseModel | tuple) else (_hash(_text(value)), ())
        parts += [path.encode(), own]
        last = path.rpartition(".")[2]
        if last in _FILE_FIELDS and isinstance(value, str):
            files = (value,)
        parts += [_KNOWN.get(bundle.originals[f])[0] for f in files if f in bundle.originals]
    if key.learns and prints:
        parts.append(prints)
    parts += [digest_of(need, bundle, known, prints) for need in key.needs(key)]
    known[key] = _hash(*parts)
    return known[key]
