"""What the program is made of: the installed packages against the lock, their licences, and a bill of materials. Needs no network.

Usage: supply.py [--sbom FILE] ; exit status 1 where something is not as it should be. The bill is CycloneDX 1.5 (JSON); its time is
SOURCE_DATE_EPOCH where that is set, else there is none, so that equal environments give equal files.
"""

from __future__ import annotations

import argparse
import json
import os
import re
import subprocess
import sys
import uuid
from datetime import UTC, datetime
from importlib import metadata
from pathlib import Path
from typing import Any

from packaging.utils import canonicalize_name

from mandorla import __version__
from mandorla.core.installation.about import licence_of, packages_needed

ROOT = Path(__file__).resolve().parents[1]
# licences under which packages may be shipped beside ours, or be used to build and test
ALLOWED = re.compile(
    r"\b(MIT|Public Domain|BSD|Apache|ISC|PSF|Python Software Foundation|MPL|Mozilla|LGPL|Lesser|HPND|Unlicense|CC0|Zlib|0BSD)",
    re.IGNORECASE,
)
TOOLS_ONLY = re.compile(r"\bGPL|General Public", re.IGNORECASE)  # may build and test, may not be shipped
OUR_OWN = {"mandorla", "pip", "setuptools", "wheel"}


def locked(path: Path = ROOT / "requirements.lock") -> dict[str, tuple[str, tuple[str, ...]]]:
    """Version and SHA-256 sums of every package of the lock, by name."""
    found: dict[str, tuple[str, tuple[str, ...]]] = {}
    name = ""
    for line in path.read_text(encoding="utf-8").splitlines():
        head = re.match(r"^([A-Za-z0-9._-]+)==([^\s;\\]+)", line)
        if head is not None:
            name = canonicalize_name(head.group(1))
            found[name] = (head.group(2), ())
        for digest in re.findall(r"--hash=sha256:([0-9a-f]{64})", line):
            found[name] = (found[name][0], (*found[name][1], digest))
    return found


def problems() -> list[str]:
    """What is not as it should be, a line each."""
    lock, said = locked(), []
    installed = {canonicalize_name(d.name): d.version for d in metadata.distributions()}
    needed = packages_needed()
    for name, (version, digests) in lock.items():
        if not digests:
            said.append(f"{name}: the lock has no hash of it")
        if installed.get(name, version) != version:
            said.append(f"{name}: {installed[name]} is installed, {version} is locked")
    for name in sorted(needed):
        if name not in lock:
            said.append(f"{name}: is needed and not in the lock")
        elif name not in installed:
            said.append(f"{name}: is needed and not installed")
    for name in sorted(set(installed) & set(lock)):
        licence = licence_of(name)
        shipped = name in needed
        if not ALLOWED.search(licence) and (shipped or not TOOLS_ONLY.search(licence)):
            said.append(f"{name}: licence “{licence}” is none that we know {'to ship' if shipped else 'to use'}")
    checked = subprocess.run([sys.executable, "-m", "pip", "check"], capture_output=True, text=True, check=False)
    if checked.returncode != 0:
        said += checked.stdout.strip().splitlines()
    return said


def beside() -> list[str]:
    """Packages that are installed beside the lock: what benchmarks fetch for themselves; told, no failure."""
    installed = {canonicalize_name(d.name): d.version for d in metadata.distributions()}
    return [f"{name} {installed[name]}" for name in sorted(set(installed) - set(locked()) - OUR_OWN)]


def bill() -> dict[str, Any]:
    """The bill of materials: what is shipped, each with version, licence and the hashes that the lock accepts."""
    lock, needed = locked(), packages_needed()
    parts = [
        {
            "type": "library", "bom-ref": f"pkg:pypi/{name}@{version}", "name": name, "version": version,
            "purl": f"pkg:pypi/{name}@{version}", "licenses": [{"license": {"name": licence_of(name)}}],
            "hashes": [{"alg": "SHA-256", "content": digest} for digest in lock.get(name, ("", ()))[1]],
        }
        for name, version in sorted(needed.items())
    ]  # fmt: skip
    own: dict[str, Any] = {"type": "application", "bom-ref": "mandorla", "name": "mandorla", "version": __version__}
    about: dict[str, Any] = {"component": own}
    epoch = os.environ.get("SOURCE_DATE_EPOCH", "")
    if epoch.isdigit():
        about["timestamp"] = datetime.fromtimestamp(int(epoch), UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    serial = uuid.uuid5(uuid.NAMESPACE_URL, json.dumps(parts, sort_keys=True))
    return {
        "bomFormat": "CycloneDX", "specVersion": "1.5", "serialNumber": f"urn:uuid:{serial}", "version": 1, "metadata": about,
        "components": parts,
        "dependencies": [{"ref": "mandorla", "dependsOn": [p["bom-ref"] for p in parts]}],
    }  # fmt: skip


def main() -> int:
    """Check, and write the bill where it is asked for."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sbom", type=Path, default=None, metavar="FILE")
    options = parser.parse_args()
    if options.sbom is not None:
        options.sbom.parent.mkdir(parents=True, exist_ok=True)
        options.sbom.write_text(json.dumps(bill(), indent=1) + "\n", encoding="utf-8")
    found, more = problems(), beside()
    if more:
        print(f"beside the lock: {', '.join(more)}")
    for line in found:
        print(line)
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
