# Two commands do all the set-up: `make demo` and `make test`.
PYTHON ?= python3
FOLDER ?= saltmarsh
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test check bench clean

demo: $(VENV)/installed
	@$(BIN)/justlane demo $(FOLDER)
	@echo "Here, justlane is $(BIN)/justlane; \`. $(BIN)/activate\` makes it plain justlane."

test: $(VENV)/ready check
	$(BIN)/python -W error -m tests

check: $(VENV)/ready
	$(BIN)/ruff format --check --quiet src tests benchmarks
	$(BIN)/ruff check --quiet src tests benchmarks
	$(BIN)/mypy

bench: $(VENV)/ready
	$(BIN)/python -m benchmarks.cold_start
	$(BIN)/python -m benchmarks.counting small medium
	$(BIN)/python -m benchmarks.people ldif 20000 1000 100000

$(VENV)/installed: pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Just Lane needs Python 3.11 or newer; try make PYTHON=python3.11")'
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --disable-pip-version-check --editable .
	@touch $@

$(VENV)/ready: $(VENV)/installed
	$(BIN)/pip install --quiet --disable-pip-version-check --editable '.[dev]'
	@touch $@

clean:
	rm -rf $(VENV) build dist
