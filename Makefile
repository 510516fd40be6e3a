.PHONY: install demo lint types quick quick-tests test deep slow-tests bench real planted campaign cluster css fuzz pictures screenshots wheels

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready
TESTS_READY := $(VENV)/.ready-for-tests
PIP := $(BIN)/pip install --quiet --disable-pip-version-check

install: $(READY)
	$(BIN)/inkwell-cast compile

$(READY): pyproject.toml requirements.lock
	@test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(PIP) -r requirements.lock
	$(PIP) --no-deps --no-build-isolation -e .
	@touch $(READY)

$(TESTS_READY): $(READY) requirements-dev.lock requirements-usd.lock requirements-cluster.lock tests/package.json
	$(PIP) -r requirements-dev.lock -r requirements-usd.lock -r requirements-cluster.lock
	@command -v chromium >/dev/null || (apt-get update -q && apt-get install -y -q --no-install-recommends chromium)
	@test -d tests/node_modules/mikktspace -a -d tests/node_modules/ag-psd -a -d tests/node_modules/gltf-validator -a -d tests/node_modules/three -a -d tests/node_modules/@biomejs/biome -a -d tests/node_modules/axe-core || npm install --silent --no-audit --no-fund --prefix tests
	$(BIN)/inkwell-cast compile
	@touch $(TESTS_READY)

demo: $(READY)
	$(BIN)/inkwell-cast demo

# A scheduler and two workers of one thread on this machine, for trying out; Ctrl-C ends them.
cluster: $(TESTS_READY)
	$(BIN)/python -m bench.cluster_here

css: $(TESTS_READY)
	$(BIN)/tailwindcss -i inkwell_cast/web/app.css -o inkwell_cast/web/static/app.css --minify

lint: $(TESTS_READY)
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/lint-imports
	tests/node_modules/.bin/biome ci --error-on-warnings inkwell_cast/web/static

types: $(TESTS_READY)
	$(BIN)/mypy

quick-tests: $(TESTS_READY)
	$(BIN)/pytest -q -n 2 -m quick tests/core
	$(BIN)/pytest -q tests/test_house.py

# Before every commit: linters, types, and what the core proves without a big piece, a browser or a server.
quick: $(TESTS_READY)
	$(MAKE) -j 3 lint types quick-tests

# All but what is deep. Browsers, servers and the core side by side, by two workers.
test: $(TESTS_READY)
	$(MAKE) -j 2 lint types
	$(BIN)/inkwell-cast compile
	$(BIN)/pytest -n 3 --dist worksteal

# What takes long: many seeds, real sizes, the longest walks, the short form of the campaign.
deep: $(TESTS_READY)
	$(BIN)/pytest -n 2 --dist worksteal -m deep

# Writes anew which tests of the core are too slow for `quick`.
slow-tests: $(TESTS_READY)
	$(BIN)/pytest -n 2 --note-slow tests/core

fuzz: $(TESTS_READY)
	$(BIN)/python -m tests.fuzz

campaign: $(TESTS_READY)
	$(BIN)/python -m tests.campaign

bench: $(TESTS_READY)
	$(BIN)/python -m bench

real: $(TESTS_READY)
	$(BIN)/python -m bench.real "$(PIECES)" "$(JUDGE)"

planted: $(TESTS_READY)
	$(BIN)/python -m bench.planted

# The locked set as wheels for every system and Python; fails where one cannot be had.
wheels: $(TESTS_READY)
	$(BIN)/python -m docs.tools.wheels

pictures: $(TESTS_READY)
	$(BIN)/python -m docs.tools.guide_pictures

screenshots: $(TESTS_READY)
	$(BIN)/python -m docs.tools.screenshots
