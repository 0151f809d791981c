# Two commands do all the set-up: `make demo` and `make test`.
PYTHON ?= python3.11
VENV := .venv
BIN := $(VENV)/bin
DATA ?= demo-data
SCRIPTS := src/combpace/web/static/js tests/js tests/browser
PORT ?= 8420
TIERS ?= main
# What is compiled is kept, also where the environment says otherwise: a run of tests starts a hundred Pythons.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: setup demo run watch one check test test-all soak bench coverage mutants wheel pythons types hooks browser-setup firefox-setup lock clean

setup: $(VENV)/.installed

$(VENV)/.installed: requirements/runtime.lock requirements/dev.lock pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements/runtime.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements/dev.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --editable .
	touch $@

demo: setup
	$(BIN)/combpace serve --demo --data $(DATA) --port $(PORT)

run: setup
	$(BIN)/combpace serve --port $(PORT)

# The demo, begun again whenever a file of the application changes. The page is reloaded by hand.
watch: setup
	COMBPACE_DATA=$(DATA) COMBPACE_PORT=$(PORT) $(BIN)/python -m bench.watch

# One module of tests, or one test: make one T=tests.core.tempo.test_map
one: setup
	$(BIN)/python -m unittest $(T)

node_modules/.installed: package.json package-lock.json
	npm ci --silent --no-audit --no-fund
	touch $@

# The browsers that tests drive are Debian's own.
firefox-setup:
	command -v firefox-esr >/dev/null || { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends firefox-esr; } || true

browser-setup:
	command -v chromium >/dev/null || { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium; }

# Everything without a browser, and in the browser the main path of every station.
test: setup browser-setup node_modules/.installed
	$(BIN)/python -W error::DeprecationWarning:combpace -m tests.at_once --tiers $(TIERS)
	node --test tests/js/*.test.js

# And the rest of what a browser shows.
test-all: TIERS = main,more
test-all: test

# Before an issue is closed: what kills and waits, other browsers and Pythons, the built wheel, faults put in, coverage.
soak: setup browser-setup firefox-setup node_modules/.installed
	.ci/soak

check: setup node_modules/.installed
	$(BIN)/ruff check src tests bench rig
	$(BIN)/ruff format --check src tests bench rig
	$(BIN)/mypy
	node_modules/.bin/tsc -p tsconfig.json
	node_modules/.bin/prettier --check --log-level warn $(SCRIPTS)

# Every figure that the docs state, made again; bench-ear, bench-stretch ... for one part of them.
bench: setup
	$(BIN)/python -m bench.tables

bench-%: setup
	$(BIN)/python -m bench.tables --part $*

# All tests once more, and which lines they go through.
coverage: setup node_modules/.installed
	rm -f .coverage
	$(BIN)/python -m bench.coverage

# Small faults put into a copy one by one: whether the tests notice.
mutants: setup
	$(BIN)/python -m bench.mutants

# Built, installed into a clean environment, and tried.
wheel: setup
	.ci/wheel

# The heart, sessions and the store under Python 3.12 and 3.13, where they are found here.
pythons: setup
	.ci/pythons

# The scripts' types from what Python says a page is sent.
types: setup
	$(BIN)/python -m bench.wire_types

# Optional: what CI checks in seconds, before each commit.
hooks:
	printf '#!/bin/sh\nexec make check\n' > .git/hooks/pre-commit && chmod +x .git/hooks/pre-commit

# Names no registry host, so that any mirror serves.
lock:
	uv pip compile --quiet --generate-hashes --python-version 3.11 pyproject.toml -o requirements/runtime.lock
	uv pip compile --quiet --generate-hashes --python-version 3.11 requirements/dev.in -o requirements/dev.lock

clean:
	rm -rf $(VENV) node_modules build src/*.egg-info .mypy_cache .ruff_cache
