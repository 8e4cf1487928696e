# Ublet: `make demo` to look around, `make test` for every check that CI runs.

PYTHON ?= $(shell command -v python3.11 || command -v python3)
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready
READY_DEV := $(VENV)/.ready-dev

# Compiled once, started fast ever after: half of a short command's time would go into compiling it each time.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test lint types floors check-tmux tests screenshots docs clean

demo: $(READY)
	$(BIN)/ublet demo

test: lint types floors tests

lint: $(READY_DEV)
	$(BIN)/ruff format --check src tests scripts
	$(BIN)/ruff check src tests scripts

types: $(READY_DEV)
	$(BIN)/mypy
	$(BIN)/mypy --strict -p ublet.core

floors: $(READY_DEV)
	$(BIN)/lint-imports

tests: $(READY_DEV) check-tmux
	$(BIN)/python -m pytest -n 3 --dist loadgroup

screenshots: $(READY_DEV)
	$(BIN)/python scripts/screenshots.py docs/screenshots

docs: $(READY_DEV)
	$(BIN)/python scripts/reference.py docs

check-tmux:
	@command -v tmux >/dev/null || { \
	  if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then \
	    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq tmux; \
	  else echo "tmux is missing: install it (Debian: apt-get install tmux), then try again" >&2; exit 1; fi; }

$(READY): pyproject.toml constraints.txt
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --constraint constraints.txt --editable .
	touch $@

$(READY_DEV): pyproject.toml constraints.txt $(READY)
	$(BIN)/python -m pip install --quiet --constraint constraints.txt --editable '.[dev]'
	touch $@

clean:
	rm -rf $(VENV) .mypy_cache .ruff_cache .pytest_cache .hypothesis .import_linter_cache
