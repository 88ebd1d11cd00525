# Everything a fresh machine needs is made here: Python 3.11 and make are enough.
PYTHON ?= python3
BIN := .venv/bin
READY := .venv/.ready

.PHONY: demo test check bench screenshots clean

$(READY): pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --upgrade pip
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $(READY)

demo: $(READY)
	$(BIN)/spectrane demo demo --overwrite

test: $(READY)
	$(BIN)/python -m pytest

check: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache
	$(BIN)/python tests/shape.py

bench: $(READY)
	$(BIN)/python -m benchmarks --write docs/performance.md

screenshots: $(READY)
	$(BIN)/python docs/screenshots.py

clean:
	rm -rf .venv demo build dist
