PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
PORT ?= 8000
DATA ?= demo-data
FRESH ?=

.PHONY: demo test test-core test-fast mutants worlds kills fuzz bad-days jobs package check bench bench-growth screenshots fmt vendor browser clean

$(VENV)/run.stamp: requirements/run.txt
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -r requirements/run.txt
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --editable .
	touch $@

$(VENV)/development.stamp: requirements/run.txt requirements/development.txt $(VENV)/run.stamp
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -r requirements/development.txt
	touch $@

demo: $(VENV)/run.stamp
	$(BIN)/python -m loyalbell demo --port $(PORT) --data $(DATA) $(if $(FRESH),--fresh)

browser:
	@sh scripts/browser.sh

test: $(VENV)/development.stamp browser
	$(BIN)/python -m unittest_parallel --level class --start-directory tests --top-level-directory . --jobs 2

test-core: $(VENV)/development.stamp
	$(BIN)/python -m unittest_parallel --level class --start-directory tests/core --top-level-directory . --jobs 2

test-fast: $(VENV)/development.stamp
	$(BIN)/python -m scripts.test_fast

mutants: $(VENV)/development.stamp
	$(BIN)/python -m tests.mutants

fuzz: $(VENV)/development.stamp
	$(BIN)/python -m tests.fuzz

worlds: $(VENV)/development.stamp
	$(BIN)/python -m tests.worlds

kills: $(VENV)/development.stamp
	$(BIN)/python -m tests.kills

jobs: $(VENV)/development.stamp browser
	$(BIN)/python -m tests.jobs

bad-days: $(VENV)/development.stamp
	$(BIN)/python -m tests.bad_days

check: $(VENV)/development.stamp
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/python scripts/check_migrations.py
	$(BIN)/python scripts/check_templates.py
	$(PYTHON) scripts/vendor.py check

package: $(VENV)/development.stamp
	$(BIN)/python -m scripts.check_package

bench: $(VENV)/development.stamp
	$(BIN)/python -m bench

bench-growth: $(VENV)/development.stamp
	$(BIN)/python -m bench.growth

screenshots: $(VENV)/development.stamp browser
	$(BIN)/python -m scripts.screenshots

fmt: $(VENV)/development.stamp
	$(BIN)/ruff check --fix .
	$(BIN)/ruff format .

vendor:
	$(PYTHON) scripts/vendor.py fetch

clean:
	rm -rf $(VENV) demo-data
