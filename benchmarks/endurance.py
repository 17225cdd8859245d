"""Spoilt input by the ten thousand: every reader in workers with limits of time and memory; a table of what came out.

Usage: endurance.py [--inputs N] [--seed S] [--jobs J] [--only READER]. N is over all readers together. What fails is kept as a file
in build/endurance/, with its reader's name, so that it can be read again.
"""

from __future__ import annotations

import argparse
import collections
import logging
import multiprocessing as mp
import os
import resource
import signal
import sys
import tempfile
import time
import traceback
import warnings
from pathlib import Path
from queue import Empty
from typing import Any

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT))
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
KEPT = ROOT / "build" / "endurance"
SECONDS, BYTES = 5, 1 << 30
BATCH = 200


def worker(name: str, seed: int, first: int, count: int, out: Any) -> None:
    """One batch of one reader; tells of each input before and after it."""
    os.environ["MANDORLA_HOME"] = tempfile.mkdtemp()
    logging.disable(logging.CRITICAL)
    warnings.simplefilter("error")
    from tests.hostile.readers import READERS, Nonsense

    from mandorla.core.errors import MandorlaError

    reader = READERS[name]
    for data in reader.good()[:2]:  # what loads late loads now
        try:
            reader.read(data)
        except MandorlaError:
            continue
    base = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (base + BYTES, base + BYTES))

    def ring(*_: object) -> None:
        raise TimeoutError("hangs")

    signal.signal(signal.SIGALRM, ring)
    for n, data in enumerate(reader.inputs(seed, count, first), first):
        out.put(("begun", n))
        began = time.perf_counter()
        kind, where = "accepted", ""
        signal.alarm(SECONDS)
        try:
            reader.read(data)
        except MandorlaError:
            kind = "refused"
        except Nonsense as error:
            kind, where = "nonsense", str(error)[:100]
        except TimeoutError:
            kind = "hangs"
        except MemoryError:
            kind = "memory"
        except BaseException as error:  # noqa: BLE001  what is outside of our own tree is what is looked for
            last = traceback.extract_tb(error.__traceback__)
            ours = next((f for f in reversed(last) if "/mandorla/" in f.filename), last[-1])
            kind, where = "outside", f"{type(error).__name__} at {Path(ours.filename).name}:{ours.lineno}"
        finally:
            signal.alarm(0)
        if kind not in ("accepted", "refused"):
            KEPT.mkdir(parents=True, exist_ok=True)
            (KEPT / f"{name}-{seed}-{n}.bin").write_bytes(data)
        out.put(("done", n, kind, where, time.perf_counter() - began))
    out.put(("end",))


def one_batch(job: tuple[str, int, int, int]) -> tuple[str, collections.Counter[str], collections.Counter[str], float]:
    """A batch in a process of its own: one that dies or hangs is counted, and the batch goes on behind it."""
    name, seed, first, count = job
    kinds: collections.Counter[str] = collections.Counter()
    places: collections.Counter[str] = collections.Counter()
    slowest, context = 0.0, mp.get_context("fork")
    while count > 0:
        out = context.Queue()
        process = context.Process(target=worker, args=(name, seed, first, count, out))
        process.start()
        at, ended = first, False
        while not ended:
            try:
                told = out.get(timeout=SECONDS + 25)
            except Empty:
                break
            if told[0] == "begun":
                at = told[1]
            elif told[0] == "done":
                kinds[told[2]] += 1
                slowest = max(slowest, told[4])
                if told[3]:
                    places[f"{told[2]}: {told[3]}"] += 1
                at = told[1] + 1
            else:
                ended = True
        if not ended:
            process.kill()
            kinds["hangs" if process.exitcode is None else "died"] += 1
            places[f"hangs or dies: input {at}"] += 1
            at += 1
        process.join()
        count -= at - first
        first = at
        if ended:
            break
    return name, kinds, places, slowest


def main() -> int:
    """Print the table; 1 where something is not nought that should be."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--inputs", type=int, default=100_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--only", default="")
    asked = parser.parse_args()
    from concurrent.futures import ThreadPoolExecutor

    from tests.hostile.readers import READERS

    names = [asked.only] if asked.only else list(READERS)
    each = max(1, asked.inputs // len(names))
    jobs = [(n, asked.seed, at, min(BATCH, each - at)) for at in range(0, each, BATCH) for n in names]
    kinds: dict[str, collections.Counter[str]] = collections.defaultdict(collections.Counter)
    places: dict[str, collections.Counter[str]] = collections.defaultdict(collections.Counter)
    slowest: dict[str, float] = collections.defaultdict(float)
    began = time.perf_counter()
    with ThreadPoolExecutor(asked.jobs) as pool:
        for name, kind, place, slow in pool.map(one_batch, jobs):
            kinds[name] += kind
            places[name] += place
            slowest[name] = max(slowest[name], slow)
    heads = ("accepted", "refused", "outside", "nonsense", "hangs", "memory", "died")
    print(f"{'reader':14s}{'inputs':>8s}" + "".join(f"{h:>10s}" for h in heads) + f"{'slowest':>10s}")
    total: collections.Counter[str] = collections.Counter()
    for name in names:
        total += kinds[name]
        print(
            f"{name:14s}{kinds[name].total():8d}"
            + "".join(f"{kinds[name][h]:10d}" for h in heads)
            + f"{slowest[name]:8.2f} s"
        )
    print(
        f"{'together':14s}{total.total():8d}"
        + "".join(f"{total[h]:10d}" for h in heads)
        + f"{time.perf_counter() - began:8.0f} s"
    )
    for name in names:
        for place, count in places[name].most_common(8):
            print(f"  {name}: {count} times {place}")
    bad = sum(total[h] for h in heads[2:])
    print(
        "every nought is nought"
        if bad == 0
        else f"{bad} inputs were neither refused nor accepted as something sensible"
    )
    return 1 if bad else 0


if __name__ == "__main__":
    raise SystemExit(main())
