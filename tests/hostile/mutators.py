"""Spoils good input in ways that files are spoilt in, by accident and on purpose; the same seed spoils the same way."""

from __future__ import annotations

import io
import json
import lzma
import random
import re
import struct
import warnings
import zipfile
import zlib
from collections.abc import Callable
from typing import Any

Mutator = Callable[[bytes, random.Random], bytes]

NUMBERS = (
    "nan", "inf", "-inf", "1e999", "-1e999", "1e308", "-0", "0", "-1", "1e-320", "9" * 40, "9" * 5000, "0x10", "1_000", "１２",
    "²", "", "--5", "1e", "+", "1,5", "1.5.5", "−3", "1e5", "-273.16", "65536", "2147483648", "18446744073709551616", "true",
)  # fmt: skip
TEXTS = (
    "", "\0", "\ufeff", "\u202e", "\ud7ff", "a" * 70000, "../../etc/passwd", "/dev/zero", "=1+1", "'; DROP TABLE print;--",
    "<!DOCTYPE x [<!ENTITY a 'b'>]>", "${HOME}", "%s%n", "\r\n\r\n", "“”", "[]", "{}", "null",
)  # fmt: skip
_NUMBER = re.compile(rb"[-+]?\d+\.?\d*(?:[eE][-+]?\d+)?")


def flipped(data: bytes, rng: random.Random) -> bytes:
    """Some bits are others."""
    spoilt = bytearray(data or b"\0")
    for _ in range(rng.randint(1, 8)):
        spoilt[rng.randrange(len(spoilt))] ^= 1 << rng.randrange(8)
    return bytes(spoilt)


def cut(data: bytes, rng: random.Random) -> bytes:
    """The end is missing, or the beginning, or the middle."""
    a, b = sorted(rng.randrange(len(data) + 1) for _ in range(2))
    return rng.choice((data[:a], data[b:], data[:a] + data[b:]))


def doubled(data: bytes, rng: random.Random) -> bytes:
    """A piece stands there several times."""
    a, b = sorted(rng.randrange(len(data) + 1) for _ in range(2))
    return data[:b] + data[a:b][:4000] * rng.randint(1, 40) + data[b:]


def noise(data: bytes, rng: random.Random) -> bytes:
    """Something else altogether stands in it."""
    at = rng.randrange(len(data) + 1)
    return data[:at] + rng.randbytes(rng.randint(1, 300)) + data[at:]


def numbers(data: bytes, rng: random.Random) -> bytes:
    """Some numbers are extreme, or none."""
    found = list(_NUMBER.finditer(data))
    if not found:
        return flipped(data, rng)
    spoilt = data
    for match in sorted(rng.sample(found, min(len(found), rng.randint(1, 3))), key=lambda m: -m.start()):
        spoilt = spoilt[: match.start()] + rng.choice(NUMBERS).encode() + spoilt[match.end() :]
    return spoilt


def lines(data: bytes, rng: random.Random) -> bytes:
    """Lines are missing, doubled, in another order, joined, or another text."""
    rows = data.split(b"\n")
    for _ in range(rng.randint(1, 4)):
        at = rng.randrange(len(rows))
        kind = rng.randrange(5)
        if kind == 0 and len(rows) > 1:
            del rows[at]
        elif kind == 1:
            rows[at:at] = [rows[at]] * rng.randint(1, 30)
        elif kind == 2:
            other = rng.randrange(len(rows))
            rows[at], rows[other] = rows[other], rows[at]
        elif kind == 3:
            rows[at] = rng.choice(TEXTS).encode("utf-8", "replace")
        else:
            rows[at] = rows[at].replace(b",", b";").replace(b" ", b"\t")
    return b"\n".join(rows)


def encoded(data: bytes, rng: random.Random) -> bytes:
    """The text is in another encoding."""
    text = data.decode("utf-8", "replace")
    return text.encode(rng.choice(("utf-16", "utf-32", "latin-1", "utf-7", "cp037")), "replace")


def _places(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    inside = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    return [path, *(p for k, v in inside for p in _places(v, (*path, k)))]


def json_value(rng: random.Random) -> Any:
    """A value that nobody expects."""
    return rng.choice((
        None, True, -1, 0, 1e308, -1e308, float("nan"), float("inf"), 10**4200, "", "x" * 9000, [], {}, [1] * 3000,
        {"a": {"b": []}}, "nan", "\ud800", "\0", [[]], 1e-300, -273.15, 2**63,
    ))  # fmt: skip


def json_spoilt(data: bytes, rng: random.Random) -> bytes:
    """A value of a JSON text is of another kind or size, missing, doubled or very deep."""
    try:
        whole = json.loads(data)
        places = _places(whole)
    except (ValueError, RecursionError):
        return numbers(data, rng)
    for _ in range(rng.randint(1, 3)):
        path = rng.choice(places)
        if not path:
            continue
        here = whole
        try:
            for step in path[:-1]:
                here = here[step]
        except (KeyError, IndexError, TypeError):
            continue  # it went with what was spoilt before
        kind = rng.randrange(4)
        if not isinstance(here, dict | list) or (isinstance(here, dict) and path[-1] not in here):
            continue
        if isinstance(here, list) and not (isinstance(path[-1], int) and path[-1] < len(here)):
            continue
        if kind == 0 and isinstance(here, dict):
            del here[path[-1]]
        elif kind == 1 and isinstance(here, dict):
            here[str(rng.choice(TEXTS))[:200]] = here[path[-1]]
        elif kind == 2 and isinstance(here, list):
            here[path[-1] : path[-1]] = [here[path[-1]]] * rng.randint(1, 60)
        else:
            here[path[-1]] = json_value(rng)
    if rng.random() < 0.05:
        text = '{"deep": 0, "schema_version": 8}'
        depth = rng.choice((500, 100000))
        return text.replace('"deep": 0', f'"deep": {"[" * depth}{"]" * depth}', 1).encode("utf-8", "surrogatepass")
    try:
        return json.dumps(whole).encode("utf-8", "surrogatepass")
    except (ValueError, RecursionError):  # too many digits, or too deep to be written by itself
        return data


def zip_spoilt(inner: Mutator) -> Mutator:
    """An archive with a spoilt entry, doubled names, an entry that unpacks to much, encryption, or another compression."""

    def spoil(data: bytes, rng: random.Random) -> bytes:
        try:
            with zipfile.ZipFile(io.BytesIO(data)) as archive:
                entries = [(i.filename, archive.read(i)) for i in archive.infolist()]
        except (
            zipfile.BadZipFile,
            zlib.error,
            lzma.LZMAError,
            NotImplementedError,
            RuntimeError,
            OSError,
            EOFError,
            ValueError,
        ):
            return flipped(data, rng)
        at = rng.randrange(len(entries))
        kind, made = rng.randrange(8), io.BytesIO()
        with warnings.catch_warnings(), zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
            warnings.simplefilter("ignore")  # of doubled names, which are meant
            for n, (name, content) in enumerate(entries):
                if n == at and kind <= 2:
                    content = inner(content, rng)
                if n == at and kind == 3:
                    name = rng.choice(("../" + name, "/" + name, name + "\u202e", "project.json", "originals/", ""))
                if n == at and kind == 4:
                    content = b"\0" * (40 << 20)
                archive.writestr(zipfile.ZipInfo(name or "x"), content)
                if n == at and kind == 5:
                    for _ in range(rng.choice((1, 3000))):
                        archive.writestr(zipfile.ZipInfo(f"originals/{rng.randrange(10**9)}"), b"")
        found = bytearray(made.getvalue())
        central = found.rfind(b"PK\x01\x02")
        if kind == 6 and central >= 0:  # encrypted, or a compression that nobody knows
            offset, value = rng.choice(((8, 1), (10, 99), (10, 12), (10, 14)))
            struct.pack_into("<H", found, central + offset, value)
        if kind == 7 and central >= 0:  # it says that it is larger or smaller than it is
            struct.pack_into("<I", found, central + 24, rng.choice((0, 1, 0xFFFFFFFE)))
        return bytes(found)

    return spoil


PLAIN: tuple[Mutator, ...] = (flipped, cut, doubled, noise)
TEXT: tuple[Mutator, ...] = (*PLAIN, numbers, numbers, numbers, lines, lines, encoded)
JSON: tuple[Mutator, ...] = (json_spoilt, json_spoilt, json_spoilt, json_spoilt, *PLAIN, numbers, encoded)


def several(data: bytes, rng: random.Random, mutators: tuple[Mutator, ...]) -> bytes:
    """One to three mutators, one after another; never more than two megabytes."""
    for _ in range(rng.choice((1, 1, 1, 2, 3))):
        data = rng.choice(mutators)(data, rng)[: 2 << 20]
    return data
