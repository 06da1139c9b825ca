# Two commands are all a newcomer needs: make demo, make test.
PYTHON ?= python3
BIN := .venv/bin
MANAGE := $(BIN)/python manage.py

.PHONY: demo test check setup serve bench fuzz clean

demo: setup
	$(MANAGE) demo
	exec $(MANAGE) serve

serve: setup
	exec $(MANAGE) serve

test: build/stamp/web build/stamp/chromium
	npm --prefix web run --silent test
	$(BIN)/python -m tests.lanes

check: build/stamp/web
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/mypy
	npm --prefix web run --silent check

setup: build/stamp/web build/stamp/kernels

# Compiled now rather than when they are first used.
build/stamp/kernels: build/stamp/python $(shell find yellowclean/engine -name '*.py')
	$(BIN)/python -m yellowclean.kernels
	mkdir -p $(@D) && touch $@

build/stamp/python: requirements.lock pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv .venv
	$(BIN)/pip install --quiet --disable-pip-version-check --require-hashes --requirement requirements.lock
	$(BIN)/pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
	mkdir -p $(@D) && touch $@

build/stamp/node: web/package.json web/package-lock.json
	npm --prefix web ci --silent --no-audit --no-fund
	mkdir -p $(@D) && touch $@

WEB_SOURCES := $(shell find web/src web/public -type f -not -name schema.d.ts -not -name openapi.json) \
	web/index.html web/vite.config.ts web/svelte.config.js web/tsconfig.json
API_SOURCES := $(shell find yellowclean -name '*.py' -not -path '*/migrations/*')

build/stamp/types: build/stamp/python build/stamp/node $(API_SOURCES)
	$(MANAGE) export_openapi_schema --api yellowclean.server.api.api --output web/src/api/openapi.json
	npm --prefix web run --silent types >/dev/null
	touch $@

build/stamp/web: build/stamp/types $(WEB_SOURCES)
	npm --prefix web run --silent build -- --logLevel warn
	touch $@

# The browser tests drive Debian's Chromium.
build/stamp/chromium: build/stamp/python
	@if ! command -v chromium >/dev/null; then \
	  if [ "$$(id -u)" = 0 ]; then \
	    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium; \
	  else \
	    echo "The browser tests need Chromium: sudo apt-get install chromium" >&2; exit 1; \
	  fi; \
	fi
	mkdir -p $(@D) && touch $@

bench: build/stamp/python
	$(BIN)/python -m benchmarks

# Damaged media, wild arguments and wild requests for about so many minutes a side: make fuzz MINUTES=30
MINUTES ?= 5
fuzz: build/stamp/python
	$(BIN)/python -m fuzz media --minutes $(MINUTES)
	YELLOW_CLEAN_FUZZ=$$(( 2000 * $(MINUTES) )) $(MANAGE) test --settings tests.settings tests.server.test_fuzz

clean:
	rm -rf .venv web/node_modules web/dist build
