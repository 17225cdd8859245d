"""Coverage-guided spoiling of every reader, by libFuzzer (atheris, installed by make fuzz): a table of what was found.

Usage: guided.py [--seconds N] [--only READER] ; N for each reader. It begins from the good inputs.
What fails is kept in build/guided/, with its reader's name. One reader runs in a process of its own, for
libFuzzer ends the process at what it finds.
"""

from __future__ import annotations

import argparse
import logging
import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["NUMBA_DISABLE_JIT"] = "1"  # compiled kernels have no places to count
sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
KEPT = Path(__file__).resolve().parents[1] / "build" / "guided"
SECONDS, MEGABYTES = 5, 2048


def one(name: str, seconds: int, corpus: str) -> None:
    """Run one reader under the fuzzer; never returns."""
    os.environ["MANDORLA_HOME"] = tempfile.mkdtemp()
    logging.disable(logging.CRITICAL)
    import atheris

    with atheris.instrument_imports(include=["mandorla"]):
        from tests.hostile.readers import READERS

        from mandorla.core.errors import MandorlaError

    reader = READERS[name]
    for n, data in enumerate(reader.good()):
        (Path(corpus) / f"good-{n}").write_bytes(data)

    def test(data: bytes) -> None:
        try:
            reader.read(data)
        except MandorlaError:
            return

    prefix = KEPT / f"{re.sub(r'[^a-z0-9]+', '-', name.lower())}-"
    atheris.Setup(
        [
            sys.argv[0], corpus, f"-max_total_time={seconds}", f"-timeout={SECONDS}", f"-rss_limit_mb={MEGABYTES}",
            "-max_len=200000", f"-artifact_prefix={prefix}", "-print_final_stats=1", "-verbosity=1",
        ],
        test,
    )  # fmt: skip
    atheris.Fuzz()


def main() -> int:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=int, default=60)
    parser.add_argument("--only", default="")
    parser.add_argument("--one", default="", help=argparse.SUPPRESS)
    parser.add_argument("--corpus", default="", help=argparse.SUPPRESS)
    options = parser.parse_args()
    KEPT.mkdir(parents=True, exist_ok=True)
    if options.one:
        one(options.one, options.seconds, options.corpus)
        return 0
    from tests.hostile.readers import READERS

    failed = 0
    print(f"{'reader':24s} {'inputs':>9s} {'a second':>9s} {'places':>8s}  found")
    for name in READERS:
        if options.only and name != options.only:
            continue
        with tempfile.TemporaryDirectory() as corpus:
            done = subprocess.run(
                [sys.executable, __file__, "--one", name, "--seconds", str(options.seconds), "--corpus", corpus],
                capture_output=True, text=True, errors="replace", timeout=options.seconds + 300, check=False,
            )  # fmt: skip
        said = done.stderr + done.stdout
        units = re.search(r"stat::number_of_executed_units:\s*(\d+)", said)
        speed = re.search(r"stat::average_exec_per_sec:\s*(\d+)", said)
        places = re.findall(r"cov: (\d+)", said)
        wrong = ""
        if done.returncode != 0:
            failed += 1
            lines = [
                line
                for line in said.splitlines()
                if re.match(r"^\s*(\w+\.)*\w*(Error|Exception|Nonsense|Warning)\b", line)
            ]
            reason = re.search(r"(SUMMARY: .*)", said)
            wrong = (lines[-1] if lines else reason.group(1) if reason else said[-300:]).strip()[:120]
        counts = [m.group(1) if m is not None else "?" for m in (units, speed)]
        print(
            f"{name:24s} {counts[0]:>9s} {counts[1]:>9s} {places[-1] if places else '?':>8s}  {wrong or 'nothing'}",
            flush=True,
        )
    print(f"readers in which something was found: {failed} (0 asked: {'met' if failed == 0 else 'missed'})")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
