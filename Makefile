# Everything that one does with North Gate. `make demo` and `make test` set up what they need.
PORT ?= 8420
PYTHON ?= python3
BIN := .venv/bin
STAMPS := .make
DEMO := examples/beckwater.plan.yaml
PLAN ?= $(DEMO)
DRILL ?= lose-fells-2
NEWEST := src/northgate/store/migrations/newest.sql
# Per cent of the lines and branches of plan and engine that tests pass.
COVERED := 96
# How many tests run at once: two take a third more of the processor than one after the other, as each loads everything.
WORKERS ?= 1
BESIDE = $(if $(filter-out 1,$(WORKERS)),-n $(WORKERS) --dist loadgroup)
WEB_SOURCES := $(shell find web/src web/index.html web/public web/vite.config.ts -type f 2>/dev/null)

PY_SOURCES := $(shell find src -name '*.py' 2>/dev/null)

.PHONY: setup demo test watched attack check check-package check-front-end check-generated fast bench types findings tables screenshots profile mutants clean
.DELETE_ON_ERROR:

setup: $(STAMPS)/bytecode $(STAMPS)/web

$(STAMPS)/python: requirements.lock bootstrap.lock pyproject.toml
	@mkdir -p $(STAMPS)
	test -x $(BIN)/python || $(PYTHON) -m venv .venv
	test -x $(BIN)/uv || $(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r bootstrap.lock
	$(BIN)/uv pip sync --quiet --require-hashes --compile-bytecode requirements.lock
	$(BIN)/uv pip install --quiet --no-deps --no-build-isolation --editable .
	@touch $@

# Compiled ahead, so that the command line starts fast even where Python may not write its caches, and the compiled loops
# are there when they are first needed; and the demo's first answers.
$(STAMPS)/bytecode: $(STAMPS)/python $(PY_SOURCES) $(DEMO)
	$(BIN)/python -m compileall -q src
	$(BIN)/python -c "import northgate.engine.drill, northgate.engine.base; northgate.engine.base.load_all()"
	$(BIN)/python -m northgate.web.door.ahead
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
	test -x /usr/bin/chromium-headless-shell || (apt-get update -qq && apt-get install -y -qq chromium-headless-shell) || test -x /usr/bin/chromium
	@touch $@

demo: setup
	$(BIN)/northgate demo --port $(PORT) --no-browser

# Types, lint, contracts, and that nothing generated is stale: what is to hold before anything is run.
check: $(STAMPS)/python $(STAMPS)/node
	@$(MAKE) --no-print-directory -j 3 check-package check-front-end check-generated

check-package:
	$(BIN)/ruff check --quiet .
	$(BIN)/ruff format --quiet --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo > $(STAMPS)/contracts || (cat $(STAMPS)/contracts; false)
	$(BIN)/deptry --no-ansi src

# Types, all rules, and the order of folders, by one linter (its rules stand in web/.oxlintrc.json).
check-front-end:
	cd web && npm run --silent check

check-generated:
	$(BIN)/python -m northgate.web.openapi > web/openapi.json
	cd web && npx openapi-typescript openapi.json -o $(CURDIR)/$(STAMPS)/schema.d.ts > /dev/null
	cmp $(STAMPS)/schema.d.ts web/src/api/schema.d.ts || (echo "the API types are stale: run 'make types'"; false)
	$(BIN)/python -m northgate.review.documented $(STAMPS)/findings.md
	cmp $(STAMPS)/findings.md docs/findings.md || (echo "the list of findings is stale: run 'make findings'"; false)
	$(BIN)/python -m northgate.store.newest $(STAMPS)/newest.sql
	cmp $(STAMPS)/newest.sql $(NEWEST) || (echo "the newest tables are stale: run 'make tables'"; false)

# The quick tests: formulas, matching, the plan and what is true.
fast: $(STAMPS)/python
	$(BIN)/pytest -q -n 2 tests/engine/formulas tests/engine/matching tests/engine/truth tests/plan tests/engine/test_rooms.py

# Types of the API for the front end, generated from the server.
types: $(STAMPS)/python $(STAMPS)/node
	$(BIN)/python -m northgate.web.openapi > web/openapi.json
	cd web && npx openapi-typescript openapi.json -o src/api/schema.d.ts > /dev/null

# The list of all that a review can find, generated from its rules.
findings: $(STAMPS)/python
	$(BIN)/python -m northgate.review.documented docs/findings.md

# The tables of a new store, generated from the migrations.
tables: $(STAMPS)/python
	$(BIN)/python -m northgate.store.newest $(NEWEST)

# What pytest makes of the tests is kept, whatever the machine says: each of its processes would make it anew.
test: export PYTHONDONTWRITEBYTECODE =
test: setup $(STAMPS)/chromium check
	cd web && npm run --silent test
	$(BIN)/pytest -q $(BESIDE) --cov --cov-report=term:skip-covered --cov-fail-under=$(COVERED)

# Which tests are watched for coverage: those that pass the most for their time, of all of plan and engine.
watched: export COVERAGE_FILE = $(STAMPS)/watched
watched: $(STAMPS)/python
	NORTHGATE_WATCH=1 $(BIN)/pytest -q tests/plan tests/engine --cov --cov-context=test --cov-report= --junitxml=$(STAMPS)/watched.xml
	$(BIN)/python -m tests.support.watched $(COVERAGE_FILE) $(STAMPS)/watched.xml

# What means no good, for long: nonsense asked of the server, files of every kind, kills in the middle of what is done
# to the store; then what it came to.
attack: setup
	@rm -f $(STAMPS)/attacked
	NORTHGATE_EXPLORE=1 NORTHGATE_TALLY=$(CURDIR)/$(STAMPS)/attacked $(BIN)/pytest -q -n 2 tests/attack tests/plan/test_editing.py
	$(BIN)/python -m tests.support.tally $(STAMPS)/attacked

# Figures of this machine now: make bench [PARTS="engine growth"] [PLANS=folder] [KEEP=file] [COMPARE=file]
bench: setup $(STAMPS)/chromium
	$(BIN)/python -m benches.run $(PARTS) $(if $(PLANS),--plans $(PLANS)) $(if $(KEEP),--keep $(KEEP)) $(if $(COMPARE),--compare $(COMPARE))

screenshots: setup $(STAMPS)/chromium
	$(BIN)/python -m docs.take_screenshots

# Where the time of a drill goes: make profile PLAN=… DRILL=…
profile: $(STAMPS)/python
	$(BIN)/pyinstrument --outfile $(STAMPS)/profile.html --renderer html -m northgate drill $(PLAN) $(DRILL)
	@echo "$(STAMPS)/profile.html"

# Which small changes of formulas and matching no test notices; takes its time, and is no part of the tests.
mutants: $(STAMPS)/python
	$(BIN)/mutmut run; $(BIN)/mutmut results

clean:
	rm -rf .venv web/node_modules $(STAMPS) src/northgate/web/static src/northgate/web/ahead.json
