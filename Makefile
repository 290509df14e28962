# make demo: set up and run the main job on demo data.   make test: set up and run the tests.
PYTHON ?= python3
BIN := .venv/bin
# What Python has compiled is kept, whatever the environment says: every process would compile all packages again.
unexport PYTHONDONTWRITEBYTECODE


.PHONY: demo test check proofs mutants lowest print-versions bench screenshots site pages recorded clean

$(BIN)/python:
	$(PYTHON) -m venv .venv

# Installed again only when what is to be installed has changed: what the demo needs, and the tools of development.
# Python compiles what it loads; pip would compile everything.
INSTALL := $(BIN)/python -m pip install --quiet --disable-pip-version-check --no-compile --editable

.venv/ready: pyproject.toml | $(BIN)/python
	$(INSTALL) .
	@touch $@

.venv/installed: .venv/ready
	$(INSTALL) '.[dev]'
	@touch $@

demo: .venv/ready
	$(BIN)/kindynos demo

test: .venv/installed
	$(BIN)/python -m tests

check: .venv/installed
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/python -m tests.check_house
	$(BIN)/lint-imports

# Long coverage runs: whether intervals hold the truth as often as they say; and the tables of the page on proofs, which
# take an hour. PROOFS=--short takes a third of the cases, and leaves the tables as they are.
proofs: .venv/installed
	$(BIN)/python -m tests --proofs $(PROOFS)
	if [ "$(PROOFS)" != --short ]; then $(BIN)/python -m benchmarks --write docs/_proofs/measured.md; fi

# With the lowest versions that are allowed, in an environment of its own: the tests of what other packages do for us,
# tables, files, pictures, commands and special functions. Our own arithmetic is the same with any version.
LOWEST := tests.cli.test_commands tests.cli.test_output tests.cli.test_fits tests.distributions tests.engine tests.model \
	tests.plots tests.reports tests.tables tests.workbooks
.venv-lowest/installed: pyproject.toml .ci/lowest.txt
	$(PYTHON) -m venv .venv-lowest
	.venv-lowest/bin/python -m pip install --quiet --disable-pip-version-check --constraint .ci/lowest.txt \
		--editable '.[cluster,excel,notebook,parquet,report]' hypothesis jsonschema selenium
	@touch $@

print-versions: # the tests of what versions of Python and of other packages can change
	@echo $(LOWEST)

lowest: .venv-lowest/installed
	.venv-lowest/bin/python -m tests $(LOWEST)

bench: .venv/installed
	$(BIN)/python -m benchmarks $(BENCH)

# Seeded faults in the numeric layers: how many of them the suite finds. FAULTS="--count 20 --seed 2" for others.
mutants: .venv/installed
	$(BIN)/python -m benchmarks.mutants $(FAULTS)

screenshots: .venv/installed
	$(BIN)/python docs/screenshots/make.py

# The documentation as a site, in docs/_build/html; a warning is an error.
site: .venv/installed
	$(BIN)/python -m sphinx --fail-on-warning --keep-going --quiet --builder html docs docs/_build/html

# The outputs on the pages of the documentation, written again.
pages: .venv/installed
	$(BIN)/python -m tests.pages

# What every command gives on demo data in every medium, recorded again for the tests.
recorded: .venv/installed
	$(BIN)/python -m tests.cli.commands

clean:
	rm -rf .venv .venv-lowest larkholm docs/_build docs/made
