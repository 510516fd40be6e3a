.PHONY: install demo test bench campaign css fuzz pictures screenshots

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready

install: $(READY)

$(READY): pyproject.toml requirements.lock
	@test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --disable-pip-version-check -r requirements.lock
	$(BIN)/pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	@touch $(READY)

demo: $(READY)
	$(BIN)/inkwell-cast demo

css: $(READY)
	$(BIN)/tailwindcss -i inkwell_cast/web/app.css -o inkwell_cast/web/static/app.css --minify

test: $(READY)
	@command -v chromium >/dev/null || (apt-get update -q && apt-get install -y -q --no-install-recommends chromium)
	@test -d tests/node_modules/mikktspace -a -d tests/node_modules/ag-psd -a -d tests/node_modules/gltf-validator -a -d tests/node_modules/three || npm install --silent --no-audit --no-fund --prefix tests
	@$(BIN)/python -c "import pxr" 2>/dev/null || $(BIN)/pip install --quiet --disable-pip-version-check -r requirements-usd.lock
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/pytest -n 2 --ignore tests/web
	$(BIN)/pytest tests/web

campaign: $(READY)
	$(BIN)/python -m tests.campaign

fuzz: $(READY)
	$(BIN)/python -m tests.fuzz

bench: $(READY)
	$(BIN)/python -m bench

pictures: $(READY)
	$(BIN)/python -m tests.guide_pictures

screenshots: $(READY)
	$(BIN)/python -m tests.screenshots
