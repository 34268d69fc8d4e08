# make demo   run the whole example        make test    run the tests
# make check  lint and types               make bench   speed and memory figures
# make mutants plant faults in the core and list those that no test notices: make mutants FAULTS=45 SEED=1
# make fuzz    damaged inputs for every reader: make fuzz INPUTS=1000000 SEED=2
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test check bench mutants fuzz clean
INPUTS ?= 100000
FAULTS ?= 45
SEED ?= 1

$(VENV)/user: pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit("Direkt needs Python 3.11 or newer; this is " + sys.version.split()[0] + ". Try: make PYTHON=python3.12 ...") if sys.version_info < (3, 11) else 0'
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --disable-pip-version-check -e .
	@touch $@

$(VENV)/developer: $(VENV)/user
	$(BIN)/pip install --quiet --disable-pip-version-check -e '.[dev]'
	@touch $@

demo: $(VENV)/user
	$(BIN)/direkt demo

test: $(VENV)/developer
	$(BIN)/python -m tests

check: $(VENV)/developer
	$(BIN)/ruff check src tests bench
	$(BIN)/mypy

fuzz: $(VENV)/developer
	$(BIN)/python -m tests.fuzz $(INPUTS) $(SEED)

bench: $(VENV)/user
	$(BIN)/python -m bench

mutants: $(VENV)/developer
	$(BIN)/python -m tests.mutants $(FAULTS) $(SEED)

clean:
	rm -rf $(VENV) .mypy_cache .ruff_cache
