# Everything a fresh machine needs is made here: Python 3.11 and make are enough.
PYTHON ?= python3
BIN := .venv/bin
READY := .venv/.ready

.PHONY: demo test check bench docs screenshots clean

$(READY): pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --upgrade pip
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $(READY)

demo: $(READY)
	$(BIN)/spectrane demo demo --overwrite

test: $(READY)
	$(BIN)/python -m pytest -n auto --dist worksteal

check: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache
	$(BIN)/python tests/shape.py
	$(BIN)/python docs/tables.py --check

bench: $(READY)
	$(BIN)/python -m benchmarks --write docs/performance.md

docs: $(READY)
	$(BIN)/python docs/tables.py

screenshots: $(READY)
	$(BIN)/python docs/screenshots.py

clean:
	rm -rf .venv demo build dist
