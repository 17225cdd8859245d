# Two commands matter: `make demo` starts Mandorla with its demo project, `make test` runs everything that CI runs.
SHELL := /bin/bash
PY := .venv/bin/python

.PHONY: demo test test-all install uninstall package api endurance fuzz shots bench peers setup demo-files clean

setup:
	@bash tools/setup.sh

demo: setup
	@$(PY) tools/make_demo.py
	@$(PY) -m mandorla --demo

test:
	@MANDORLA_WARM=later bash tools/setup.sh
	@bash tools/test.sh

# make test leaves the tests of tests/longer.txt out; this runs every one
test-all:
	@MANDORLA_WARM=later bash tools/setup.sh
	@bash tools/test.sh --all

shots: setup
	@$(PY) tools/make_demo.py
	@QT_QPA_PLATFORM=offscreen $(PY) tools/shots.py
	@QT_QPA_PLATFORM=offscreen $(PY) tools/shots.py --dark --stage tune

bench: setup
	@QT_QPA_PLATFORM=offscreen $(PY) benchmarks/run.py

demo-files: setup
	@$(PY) tools/make_demo.py

clean:
	rm -rf .venv .mypy_cache .ruff_cache .pytest_cache build

# for one user, without a password: program, desktop entry, icon, file type, man page, completions
install: setup
	@bash packaging/install.sh

uninstall:
	@bash packaging/install.sh --remove

# a Debian package with everything it needs, unpacked and started in its own check
package: setup
	@bash packaging/deb.sh --check

# spoilt input by the ten thousand and machines at their limits: some forty minutes, tables of what came out
endurance: setup
	@$(PY) benchmarks/endurance.py
	@$(PY) benchmarks/extreme_rigs.py
	@$(PY) benchmarks/window_steps.py

# every reader under a coverage-guided fuzzer; installs it first
fuzz: setup
	@.venv/bin/pip install -q atheris==3.0.0
	@$(PY) benchmarks/guided.py

# pages of the library's own documentation, from its docstrings
api: setup
	@$(PY) -m pdoc -o build/api mandorla

# the heat kernel beside general-purpose solvers on the same grid; installs them first (a few MB, five minutes)
peers: setup
	@.venv/bin/pip install -q scikit-fem==12.0.2 fipy==4.0.3 pyamg==5.4.1
	@$(PY) benchmarks/peers.py
	@$(PY) benchmarks/solid_peers.py
