# Two commands matter: `make demo` starts Mandorla with its demo project, `make test` runs everything that CI runs.
SHELL := /bin/bash
PY := .venv/bin/python

.PHONY: demo test shots bench peers setup demo-files clean

setup:
	@bash tools/setup.sh

demo: setup
	@$(PY) tools/make_demo.py
	@$(PY) -m mandorla --demo

test:
	@MANDORLA_WARM=later bash tools/setup.sh
	@bash tools/test.sh

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

# the heat kernel beside general-purpose solvers on the same grid; installs them first (a few MB, five minutes)
peers: setup
	@.venv/bin/pip install -q scikit-fem==12.0.2 fipy==4.0.3 pyamg==5.4.1
	@$(PY) benchmarks/peers.py
	@$(PY) benchmarks/solid_peers.py
