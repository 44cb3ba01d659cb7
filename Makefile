# Everything that one does with North Gate. `make demo` and `make test` set up what they need.
PORT ?= 8420
PYTHON ?= python3
BIN := .venv/bin
STAMPS := .make
WEB_SOURCES := $(shell find web/src web/index.html web/public web/vite.config.ts -type f 2>/dev/null)

PY_SOURCES := $(shell find src -name '*.py' 2>/dev/null)

.PHONY: setup demo test lint bench types screenshots clean
.DELETE_ON_ERROR:

setup: $(STAMPS)/bytecode $(STAMPS)/web

$(STAMPS)/python: requirements.lock pyproject.toml
	@mkdir -p $(STAMPS)
	test -x $(BIN)/python || $(PYTHON) -m venv .venv
	test -x $(BIN)/uv || $(BIN)/python -m pip install --quiet --disable-pip-version-check uv
	$(BIN)/uv pip sync --quiet --require-hashes --compile-bytecode requirements.lock
	$(BIN)/uv pip install --quiet --no-deps --no-build-isolation --editable .
	@touch $@

# Compiled ahead, so that the command line starts fast even where Python may not write its caches, and the one compiled
# loop is there when it is first needed.
$(STAMPS)/bytecode: $(STAMPS)/python $(PY_SOURCES)
	$(BIN)/python -m compileall -q src
	$(BIN)/python -m northgate.engine.formulas.hash_kernel
	@touch $@

$(STAMPS)/node: web/package-lock.json web/package.json
	@mkdir -p $(STAMPS)
	cd web && npm ci --silent
	@touch $@

$(STAMPS)/web: $(STAMPS)/node $(WEB_SOURCES)
	cd web && npm run --silent build
	@touch $@

$(STAMPS)/chromium:
	@mkdir -p $(STAMPS)
	test -x /usr/bin/chromium || (apt-get update -qq && apt-get install -y -qq chromium)
	@touch $@

demo: setup
	$(BIN)/northgate demo --port $(PORT) --no-browser

lint: setup
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo 2>/dev/null || $(BIN)/lint-imports
	cd web && npm run --silent check
	$(BIN)/python -m northgate.web.openapi > web/openapi.json
	cd web && npx openapi-typescript openapi.json -o $(CURDIR)/$(STAMPS)/schema.d.ts > /dev/null
	cmp $(STAMPS)/schema.d.ts web/src/api/schema.d.ts || (echo "the API types are stale: run 'make types'"; false)

# Types of the API for the front end, generated from the server.
types: $(STAMPS)/python $(STAMPS)/node
	$(BIN)/python -m northgate.web.openapi > web/openapi.json
	cd web && npx openapi-typescript openapi.json -o src/api/schema.d.ts > /dev/null

test: setup $(STAMPS)/chromium lint
	cd web && npm run --silent test
	$(BIN)/pytest -q -n 2 --dist loadgroup tests

bench: setup $(STAMPS)/chromium
	$(BIN)/python benches/run.py

screenshots: setup $(STAMPS)/chromium
	$(BIN)/python docs/take_screenshots.py

clean:
	rm -rf .venv web/node_modules $(STAMPS) src/northgate/web/static
