.PHONY: install demo test bench real planted campaign cluster css fuzz pictures screenshots wheels

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready
TESTS_READY := $(VENV)/.ready-for-tests
PIP := $(BIN)/pip install --quiet --disable-pip-version-check

install: $(READY)

$(READY): pyproject.toml requirements.lock
	@test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(PIP) -r requirements.lock
	$(PIP) --no-deps --no-build-isolation -e .
	$(BIN)/inkwell-cast compile
	@touch $(READY)

$(TESTS_READY): $(READY) requirements-dev.lock requirements-usd.lock requirements-cluster.lock tests/package.json
	$(PIP) -r requirements-dev.lock -r requirements-usd.lock -r requirements-cluster.lock
	@command -v chromium >/dev/null || (apt-get update -q && apt-get install -y -q --no-install-recommends chromium)
	@test -d tests/node_modules/mikktspace -a -d tests/node_modules/ag-psd -a -d tests/node_modules/gltf-validator -a -d tests/node_modules/three -a -d tests/node_modules/@biomejs/biome -a -d tests/node_modules/axe-core || npm install --silent --no-audit --no-fund --prefix tests
	@touch $(TESTS_READY)

demo: $(READY)
	$(BIN)/inkwell-cast demo

# A scheduler and two workers of one thread on this machine, for trying out; Ctrl-C ends them.
cluster: $(TESTS_READY)
	$(BIN)/python -m bench.cluster_here

css: $(TESTS_READY)
	$(BIN)/tailwindcss -i inkwell_cast/web/app.css -o inkwell_cast/web/static/app.css --minify

test: $(TESTS_READY)
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/lint-imports
	tests/node_modules/.bin/biome lint --error-on-warnings inkwell_cast/web/static
	$(BIN)/inkwell-cast compile
	$(BIN)/pytest -n 2 --ignore tests/web --ignore tests/test_campaign.py
	$(BIN)/pytest -n 2 --dist loadfile tests/web tests/test_campaign.py

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
	$(BIN)/python -m tests.wheels

pictures: $(TESTS_READY)
	$(BIN)/python -m tests.guide_pictures

screenshots: $(TESTS_READY)
	$(BIN)/python -m tests.screenshots
