#!/usr/bin/env bash
# Everything CI runs: lint, types, import contracts, core and interface offscreen, a handful through a real window on Xvfb.
set -uo pipefail
cd "$(dirname "$0")/.."
bin=.venv/bin
export OPENBLAS_NUM_THREADS=1  # as Mandorla itself sets it
# tests/longer.txt lists what is left out here: make test-all
chosen="not window and not long"
[ "${1:-}" = "--all" ] && chosen="not window"
failed=0
step() { echo "== $1"; shift; "$@" || { failed=1; echo "== failed: $*" >&2; }; }

# the kernels compile on one core while the code is checked on the other
$bin/python tools/warm_up.py --all &
warming=$!

step "format" $bin/ruff format --check -q .
step "lint" $bin/ruff check -q .
step "types" $bin/mypy
unused() {  # fields of outputs are written as JSON
  local left
  left=$($bin/vulture | grep -v "^src/mandorla/cli/.*unused variable")
  [ -z "$left" ] || { echo "$left"; return 1; }
}
step "unused code" unused
step "supply chain" $bin/python tools/supply.py
step "import contracts" env PYTHONPATH=src $bin/lint-imports --no-cache
wait "$warming" || { echo "== failed: warm-up" >&2; failed=1; }

# a real window on a display of our own, beside the others
exec 3< <(exec Xvfb -displayfd 1 -screen 0 1400x1000x24 -nolisten tcp 2>/dev/null)
xvfb=$!
read -r -t 20 display <&3 || { echo "Xvfb did not start" >&2; failed=1; display=""; }
seen=$(mktemp)
watching=""
if [ -n "$display" ]; then
  env -u PYTEST_ADDOPTS DISPLAY=":$display" QT_QPA_PLATFORM=xcb $bin/pytest -m window >"$seen" 2>&1 &
  watching=$!
fi
step "tests, offscreen" env QT_QPA_PLATFORM=offscreen $bin/pytest -n 2 --dist worksteal --durations=25 -m "$chosen"
if [ -n "$watching" ]; then
  wait "$watching"
  ended=$?
  step "tests, real window" cat "$seen"
  [ "$ended" = 0 ] || { failed=1; echo "== failed: tests, real window" >&2; }
fi
kill "$xvfb" 2>/dev/null
rm -f "$seen"
exit $failed
