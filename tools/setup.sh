#!/usr/bin/env bash
# Creates .venv from the pinned lock file and installs the system packages a window needs. Second runs skip what is there.
set -euo pipefail
cd "$(dirname "$0")/.."

packages=(xvfb libegl1 libgl1 libxkbcommon-x11-0 libxcb-icccm4 libxcb-keysyms1 libxcb-cursor0 libxcb-image0
  libxcb-render-util0 libxcb-randr0 libxcb-shape0 libxcb-sync1 libxcb-xfixes0 libxcb-xinerama0 libx11-xcb1 libdbus-1-3
  libfontconfig1 libxrender1 libxi6 libsm6 libglib2.0-0
  desktop-file-utils appstream)

python=""
for candidate in python3.11 python3.12 python3.13 python3; do
  if command -v "$candidate" >/dev/null && "$candidate" -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; then
    python=$candidate
    break
  fi
done
if [ -z "$python" ]; then
  echo "Mandorla needs Python 3.11 or newer; install it with: apt-get install python3" >&2
  exit 1
fi
"$python" -c 'import venv, ensurepip' 2>/dev/null || packages+=(python3-venv)

missing=()
if command -v dpkg-query >/dev/null; then
  for p in "${packages[@]}"; do
    dpkg-query -W -f='${db:Status-Status}' "$p" 2>/dev/null | grep -q '^installed$' || missing+=("$p")
  done
fi
if [ ${#missing[@]} -gt 0 ]; then
  as_root=""
  if [ "$(id -u)" -ne 0 ]; then
    if command -v sudo >/dev/null && sudo -n true 2>/dev/null; then as_root="sudo"; else as_root="no"; fi
  fi
  if [ "$as_root" = "no" ]; then
    echo "These system packages are missing. Run this line, then start again:" >&2
    echo "  sudo apt-get update && sudo apt-get install -y --no-install-recommends ${missing[*]}" >&2
    exit 1
  fi
  echo "Installing system packages: ${missing[*]}"
  $as_root apt-get update -qq
  DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi

stamp=.venv/.mandorla-lock
wanted=$(cat requirements.lock pyproject.toml | sha256sum | cut -d' ' -f1)
if [ ! -f "$stamp" ] || [ "$(cat "$stamp")" != "$wanted" ]; then
  echo "Creating the environment from requirements.lock"
  [ -x .venv/bin/python ] || "$python" -m venv .venv
  .venv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
  .venv/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e . 2>/dev/null ||
    .venv/bin/python -m pip install --quiet --disable-pip-version-check --no-deps -e .
  echo "$wanted" >"$stamp"
fi
# compile the kernels once, so that the first edit does not wait; tests do it beside their checks of the code
[ "${MANDORLA_WARM:-now}" = "later" ] || .venv/bin/python tools/warm_up.py
