# `make demo` and `make test` set up what they need in .venv by themselves.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
# Of what is installed, only what every command loads is compiled beforehand: the rest is when it is first loaded.

.PHONY: demo test loaders packed check measure faults findings screenshots clean

demo: $(VENV)/ready
	$(BIN)/greenstep demo

test: $(VENV)/ready
	$(BIN)/python -m tests

loaders: $(VENV)/ready
	$(BIN)/python -m pip install --quiet --editable '.[test,loaders]'
	$(BIN)/python -m tests.loaders

packed: $(VENV)/ready
	$(BIN)/python -m pip install --quiet --editable '.[test,program]'
	$(BIN)/python -m tests tests.tool.test_kit_program

check: $(VENV)/checkers
	$(BIN)/ruff check src tests benchmarks examples docs loaders
	$(BIN)/mypy

measure: $(VENV)/ready
	$(BIN)/python -m benchmarks.line_efficiency
	$(BIN)/python -m benchmarks.hex_parsing
	$(BIN)/python -m benchmarks.image_show
	$(BIN)/python -m benchmarks.scattered_image
	$(BIN)/python -m benchmarks.startup

faults: $(VENV)/ready
	$(BIN)/python -m benchmarks.fault_runs
	$(BIN)/python -m benchmarks.mixed_faults
	$(BIN)/python -m benchmarks.every_character
	$(BIN)/python -m benchmarks.late_answers
	$(BIN)/python -m benchmarks.noisy_lines
	$(BIN)/python -m benchmarks.damaged_records
	$(BIN)/python -m benchmarks.hostile_files
	$(BIN)/python -m benchmarks.hostile_peers
	$(BIN)/python -m benchmarks.noise_boards 5000
	$(BIN)/python -m tests --whole

findings: $(VENV)/ready
	$(BIN)/python -m benchmarks.findings_rate --write

screenshots: $(VENV)/ready
	$(BIN)/python docs/make_screenshots.py

$(VENV)/ready: pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit(0 if sys.version_info >= (3, 11) else "Green Step needs Python 3.11 or newer: make PYTHON=python3.11 ...")'
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --no-compile --editable '.[test]'
	cd $(VENV)/lib/python3*/site-packages && $(abspath $(BIN))/python -m compileall -q click platformdirs rich serial $(CURDIR)/src
	touch $@

# What reads the code, and is not needed to run it.
$(VENV)/checkers: $(VENV)/ready
	$(BIN)/python -m pip install --quiet --editable '.[check]'
	touch $@

clean:
	rm -rf $(VENV) build dist
