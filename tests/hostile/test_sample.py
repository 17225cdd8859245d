"""A fair sample of spoilt input for every reader: it is accepted as something sensible, or refused in words; soon, either way."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType

import pytest

from mandorla.core.errors import MandorlaError
from tests.hostile.readers import READERS, Reader

SAMPLE = 120
SECONDS = 5


class TooLong(BaseException):
    """It took longer than anybody waits."""


@contextmanager
def within(seconds: float) -> Iterator[None]:
    """Raise TooLong where it takes longer."""

    def ring(_: int, __: FrameType | None) -> None:
        raise TooLong

    before = signal.signal(signal.SIGALRM, ring)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0.0)
        signal.signal(signal.SIGALRM, before)


@pytest.mark.parametrize("reader", READERS.values(), ids=lambda r: r.name)
def test_good_input_is_read(reader: Reader) -> None:
    for data in reader.good()[:6]:
        if reader.name != "set":  # most paths take no “1”
            reader.read(data)


@pytest.mark.parametrize("reader", READERS.values(), ids=lambda r: r.name)
def test_spoilt_input_is_refused_in_words(reader: Reader) -> None:
    refused, said = 0, list[str]()
    for data in reader.inputs(seed=20, count=SAMPLE):
        try:
            with within(SECONDS):
                reader.read(data)
        except MandorlaError as error:
            refused += 1
            said.append(error.message)
    assert all(s.strip() and len(s) < 2000 for s in said), "nobody reads so much"
    if reader.name not in ("preferences", "recovery", "printer"):  # these take everything, and keep what is sensible
        assert refused > SAMPLE // 10, "the mutators do not reach this reader"


CORPUS = sorted((Path(__file__).parent / "corpus").glob("*.bin"))


@pytest.mark.parametrize("path", CORPUS, ids=lambda p: p.stem)
def test_what_was_found_once_stays_refused(path: Path) -> None:
    """Inputs that once ended in an exception of somebody else's tree, by their reader's name."""
    with within(SECONDS), pytest.raises(MandorlaError):
        READERS[path.stem.partition("-")[0]].read(path.read_bytes())
