# `make demo` and `make test` each work as the first command on a fresh Debian machine with Python 3.11 or newer.

PYTHON ?= python3
VENV ?= .venv
BIN := $(VENV)/bin
DATA ?= $(HOME)/.local/share/sivrel
PORT ?= 8017
AS_ROOT := $(shell [ "$$(id -u)" = 0 ] || echo sudo)

.PHONY: demo test check fuzz torture bench bench-diagnosis bench-truth bench-tune docs requirements styles clean

demo: $(VENV)/.run
	$(BIN)/sivrel demo --port $(PORT) --data "$(DATA)"

test: $(VENV)/.test chromium
	$(BIN)/python -m tests

check: $(VENV)/.test
	$(BIN)/ruff check src tests bench examples
	$(BIN)/ruff format --check --quiet src tests bench examples
	$(BIN)/mypy
	$(BIN)/lint-imports
	@if [ -x node_modules/.bin/tsc ]; then node_modules/.bin/tsc -p tsconfig.json; else echo "Scripts of the pages are not type-checked: run npm ci first."; fi

# Each reader of our own for FUZZ_SECONDS, guided by coverage; then FUZZ_FILES mutants of every format.
FUZZ_SECONDS ?= 3600
FUZZ_FILES ?= 2000
FUZZ_FOLDER ?= /tmp/sivrel-fuzz
fuzz: $(VENV)/.test
	for reader in ies hdr obj mtl exr-header cache recipe edits; do \
	  $(BIN)/python -m tests.fuzz.readers $$reader $(FUZZ_SECONDS) $(FUZZ_FOLDER) || exit 1; done
	$(BIN)/python -m tests.fuzz.files $(FUZZ_FILES)

# Kills, freezes, full disks and damage for TORTURE_MINUTES; a small disk is mounted where that is allowed.
TORTURE_MINUTES ?= 30
TORTURE_SEED ?= 1
torture: $(VENV)/.test
	$(BIN)/python -m tests.torture $(TORTURE_MINUTES) $(TORTURE_SEED)

bench: $(VENV)/.test
	$(BIN)/python -m bench

bench-diagnosis: $(VENV)/.test
	$(BIN)/python -m bench diagnosis

bench-truth: $(VENV)/.test
	$(BIN)/python -m bench truth

bench-tune: $(VENV)/.test
	$(BIN)/python -m bench tune

# What follows serves development.

docs: $(VENV)/.run
	$(BIN)/python -m sivrel.core.render.recipe_docs > docs/recipe.md

requirements: $(VENV)/.test
	cd requirements && for name in run cluster test; do ../$(BIN)/pip-compile --quiet --upgrade --generate-hashes --no-emit-index-url \
	  --no-emit-find-links --no-emit-trusted-host --no-emit-options --strip-extras --allow-unsafe --no-annotate $$name.in -o $$name.txt; done

styles:
	npm ci && npm run styles

clean:
	rm -rf $(VENV) node_modules

$(VENV)/bin/pip:
	$(PYTHON) -c "import venv, ensurepip" 2>/dev/null || ($(AS_ROOT) apt-get update && $(AS_ROOT) apt-get install -y python3-venv)
	$(PYTHON) -m venv $(VENV)

$(VENV)/.run: requirements/run.txt pyproject.toml | $(VENV)/bin/pip
	$(BIN)/pip install --quiet --disable-pip-version-check --require-hashes -r requirements/run.txt
	$(BIN)/pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
	touch $@

$(VENV)/.test: requirements/test.txt $(VENV)/.run
	$(BIN)/pip install --quiet --disable-pip-version-check --require-hashes -r requirements/test.txt
	touch $@

.PHONY: chromium
chromium:
	@command -v chromium >/dev/null || ($(AS_ROOT) apt-get update && $(AS_ROOT) apt-get install -y chromium)
