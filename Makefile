# Everything a fresh machine needs is made here: Python 3.11 and make are enough.
PYTHON ?= python3
BIN := .venv/bin
READY := .venv/.ready
# Each worker and each command that a test starts would else compile every module again.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test check lowest bench fuzz docs screenshots clean

$(READY): pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --upgrade pip
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $(READY)

demo: $(READY)
	$(BIN)/spectrane demo demo --overwrite

# Tests write some 100 000 small files: into memory, where there is plenty of it. They run side by
# side, as many as there are cores: threads of a library that wait for work would be in their way.
SCRATCH := $(shell df -Pm /dev/shm 2>/dev/null | awk 'NR == 2 && $$4 > 4000 {print "/dev/shm"}')
test: $(READY)
	scratch=$$(mktemp -d $(if $(SCRATCH),-p $(SCRATCH))) && trap 'rm -rf "$$scratch"' EXIT && \
		TMPDIR="$$scratch" OPENBLAS_NUM_THREADS=1 $(BIN)/python -m pytest -n auto --dist worksteal

check: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/mypy --strict --config-file tests/user_script.ini tests/user_script.py examples/*.py
	$(BIN)/basedpyright --level error --pythonpath $(BIN)/python tests/user_script.py examples/*.py
	$(BIN)/lint-imports --no-cache
	$(BIN)/python tests/shape.py
	$(BIN)/python docs/tables.py --check

# The oldest versions that pyproject.toml declares, as wheels, and a sample of the tests on them.
SAMPLE := tests/cli tests/display tests/model tests/analysis tests/spatial tests/test_face.py \
	tests/test_figures.py tests/formats/test_cf.py tests/formats/test_tiff_reading.py \
	tests/formats/test_tiff_writing.py tests/formats/test_nifti.py tests/engine/test_running.py

lowest:
	$(PYTHON) -m venv --clear .venv-lowest
	$(PYTHON) tests/lowest.py > .venv-lowest/pins.txt
	.venv-lowest/bin/python -m pip install --quiet --only-binary :all: -r .venv-lowest/pins.txt \
		pytest pytest-timeout hypothesis hatchling hatch-fancy-pypi-readme editables
	.venv-lowest/bin/python -m pip install --quiet --no-deps --no-build-isolation --editable .
	.venv-lowest/bin/python -m pytest -o filterwarnings=default $(SAMPLE) \
		-k "not (pillow and zstd)"  # which old Pillow has no codec for

bench: $(READY)
	$(BIN)/python -m benchmarks --write docs/performance.md

# Spoiled files of every kind, some tens of thousands; what is found is kept in fuzzing/found.
fuzz: $(READY)
	$(BIN)/python -m fuzzing

docs: $(READY)
	$(BIN)/python docs/tables.py
	$(BIN)/python docs/build.py docs/_build

screenshots: $(READY)
	$(BIN)/python docs/screenshots.py

clean:
	rm -rf .venv .venv-lowest demo build dist
