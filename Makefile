# make demo   run the whole example        make test    run the tests
# make check  lint and types               make bench   speed and memory figures
# make mutants plant faults in the core and list those that no test notices: make mutants FAULTS=45 SEED=1
# make docs   the site, into build/site      make test-thorough  every case of the tests that else take some
# make sbom    what is installed, as CycloneDX      make audit   known weaknesses of what is locked (needs the network)
# make lock    pin what is installed, with hashes; LOCKED=yes installs just that, for developers and CI
# make fuzz    damaged inputs for every reader: make fuzz INPUTS=1000000 SEED=2
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: docs demo test test-thorough check bench mutants fuzz clean sbom audit lock
INPUTS ?= 100000
FAULTS ?= 45
SEED ?= 1

$(VENV)/user: pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit("Direkt needs Python 3.11 or newer; this is " + sys.version.split()[0] + ". Try: make PYTHON=python3.12 ...") if sys.version_info < (3, 11) else 0'
	$(PYTHON) -m venv $(VENV)
ifdef LOCKED
	$(BIN)/pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	$(BIN)/pip install --quiet --disable-pip-version-check --no-deps -e .
else
	$(BIN)/pip install --quiet --disable-pip-version-check -e .
endif
	@touch $@

$(VENV)/developer: $(VENV)/user
ifndef LOCKED
	$(BIN)/pip install --quiet --disable-pip-version-check -e '.[dev]'
endif
	@touch $@

$(VENV)-tools/ready:
	$(PYTHON) -m venv $(VENV)-tools
	$(VENV)-tools/bin/pip install --quiet --disable-pip-version-check 'cyclonedx-bom>=4,<8' 'pip-audit>=2.7,<3' 'pip-tools>=7.4,<8'
	@touch $@

demo: $(VENV)/user
	$(BIN)/direkt demo

test: $(VENV)/developer
	$(BIN)/python -m tests

docs: $(VENV)/developer
	$(BIN)/python -m tests.site_pages build/site-source
	NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build --strict --quiet

test-thorough: $(VENV)/developer
	TESTS_THOROUGH=1 $(BIN)/python -m tests

check: $(VENV)/developer
	$(BIN)/ruff check src tests bench
	$(BIN)/mypy

fuzz: $(VENV)/developer
	$(BIN)/python -m tests.fuzz $(INPUTS) $(SEED)

bench: $(VENV)/user
	$(BIN)/python -m bench

mutants: $(VENV)/developer
	$(BIN)/python -m tests.mutants $(FAULTS) $(SEED)

sbom: $(VENV)-tools/ready
	rm -rf $(VENV)-sbom && $(PYTHON) -m venv --without-pip $(VENV)-sbom
	$(VENV)-tools/bin/pip --python $(VENV)-sbom install --quiet --disable-pip-version-check .
	$(VENV)-tools/bin/cyclonedx-py environment --pyproject pyproject.toml --output-format JSON --output-file sbom.cdx.json $(VENV)-sbom/bin/python
	rm -rf $(VENV)-sbom

audit: $(VENV)-tools/ready
	$(VENV)-tools/bin/pip-audit --require-hashes --disable-pip --requirement requirements.lock

lock: $(VENV)-tools/ready
	$(VENV)-tools/bin/pip-compile --quiet --generate-hashes --allow-unsafe --no-header --no-annotate --no-emit-index-url --no-emit-trusted-host \
	  --no-emit-find-links --all-extras --strip-extras --output-file requirements.lock pyproject.toml

clean:
	rm -rf $(VENV) $(VENV)-tools .mypy_cache .ruff_cache
