# make setup | demo | test | fresh | bench — each may be run again at any time and does no needless work.
SHELL := /bin/bash
.DEFAULT_GOAL := help
PY := .venv/bin/python
# The system's own Python comes first: Debian's is built to be quick, and one that was compiled by hand takes a third to a half longer.
PYTHON := $(firstword $(foreach one,/usr/bin/python3 python3,$(shell $(one) -c 'import ensurepip, sys; sys.exit(not (3, 11) <= sys.version_info < (3, 13))' 2> /dev/null && echo $(one))))
STAMPS := .stamps
# Bytecode is written at set-up, so that every start is quick.
unexport PYTHONDONTWRITEBYTECODE
export UV_NO_PROGRESS := 1
WEB_SOURCES := $(shell find web/src web/index.html web/vite.config.ts -type f 2>/dev/null)
PY_SOURCES := $(shell find src -name '*.py' 2>/dev/null)

.PHONY: coverage layers help setup demo test test-real fresh audit bench bench-house bench-week check check-python check-web types shots states

help:
	@echo "make setup   everything that is needed, on a fresh machine"
	@echo "make demo    a living business at http://127.0.0.1:8700, until Ctrl C"
	@echo "make test    all checks and tests"
	@echo "make test-real   mail with Debian's own servers (as root)"
	@echo "make fresh   empty the demo data"
	@echo "make coverage   which lines the tests walk through, by room"
	@echo "make bench   measure, and write docs/benchmarks.md"
	@echo "make bench-house   houses of three sizes, and write docs/benchmarks-house.md (takes long)"
	@echo "make bench-week   a week at work with three people, and write docs/benchmarks-week.md (takes 20 minutes)"

# What does not wait for another goes on beside it; what each says is shown once it is done.
BESIDE := $(MAKE) --no-print-directory -j3 -O

setup:
	@$(BESIDE) $(STAMPS)/compiled web/dist/index.html

$(STAMPS)/uv:
	@mkdir -p $(STAMPS)
	@test -n "$(PYTHON)" || { echo "Python 3.11 or 3.12 is needed, with its ensurepip: apt-get install python3-venv"; exit 1; }
	$(PYTHON) -m venv .venv
	.venv/bin/pip install -q --disable-pip-version-check uv==0.13.8
	@touch $@

$(STAMPS)/python: $(STAMPS)/uv requirements-dev.txt
	VIRTUAL_ENV=.venv .venv/bin/uv pip sync -q --require-hashes --compile-bytecode requirements-dev.txt
	@rm -f $(STAMPS)/install
	@touch $@

$(STAMPS)/install: $(STAMPS)/python pyproject.toml src/amber_lane/__init__.py
	VIRTUAL_ENV=.venv .venv/bin/uv pip install -q --no-deps --no-build-isolation -e .
	@touch $@

$(STAMPS)/compiled: $(STAMPS)/install $(PY_SOURCES)
	@$(PY) -m compileall -q src > /dev/null
	@touch $@

$(STAMPS)/npm: web/package-lock.json
	@mkdir -p $(STAMPS)
	cd web && npm ci --silent
	@touch $@

web/dist/index.html: $(STAMPS)/npm $(WEB_SOURCES)
	cd web && npx --no-install vite build --logLevel warn
	@touch $@

# Debian's own browser, for the tests that work as a person does.
$(STAMPS)/chromium:
	@mkdir -p $(STAMPS)
	@command -v chromium-headless-shell > /dev/null || { apt-get update -qq && apt-get install -y -qq --no-install-recommends chromium-headless-shell > /dev/null; }
	@touch $@

# Debian's own servers of files, started by the tests in folders of their own.
$(STAMPS)/servers: | $(STAMPS)/chromium
	@mkdir -p $(STAMPS)
	@test -x /usr/sbin/sshd && test -x /usr/sbin/vsftpd && test -e /usr/lib/lighttpd/mod_webdav.so || { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends openssh-server vsftpd lighttpd lighttpd-mod-webdav > /dev/null; }
	@touch $@

demo: setup
	.venv/bin/amber-lane demo

# Mail servers as people have them: dovecot and postfix, started by the tests in folders of their own.
test-real: setup
	@command -v dovecot > /dev/null && command -v postfix > /dev/null || { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends postfix dovecot-imapd dovecot-pop3d > /dev/null; }
	AMBER_LANE_REAL=1 .venv/bin/pytest -q tests/real

# The pages' types are made from the interface; the check fails when they were not made anew.
types: $(STAMPS)/install $(STAMPS)/npm
	.venv/bin/amber-lane openapi > web/src/api/openapi.json
	.venv/bin/amber-lane description-schema > docs/description.schema.json
	cd web && npm run -s types > /dev/null

# Which lines the tests walk through, by room, with the floors that stand in pyproject.toml.
coverage: setup $(STAMPS)/chromium $(STAMPS)/servers
	rm -f .coverage*
	.venv/bin/pytest -q -n 3 --dist loadscope --no-loadscope-reorder --cov --cov-report= --cov-config=pyproject.toml
	$(PY) -m tests.coverage_floors

check:
	@$(BESIDE) check-python check-web

check-python: $(STAMPS)/compiled
	.venv/bin/ruff check src tests bench
	.venv/bin/ruff format --check -q src tests bench
	.venv/bin/mypy
	@.venv/bin/vulture | grep -E "^src/.*unused (function|method|class|property|import)" && { echo "dead code"; exit 1; } || true
	.venv/bin/lint-imports > /tmp/amber-lane-imports.log || { cat /tmp/amber-lane-imports.log; exit 1; }
	.venv/bin/amber-lane description-schema | cmp - docs/description.schema.json || { echo "descriptions changed: run make types"; exit 1; }
	.venv/bin/amber-lane openapi | cmp - web/src/api/openapi.json || { echo "the interface changed: run make types"; exit 1; }
	$(MAKE) -s states && git diff --quiet docs/states.md || { echo "the state machines changed: commit docs/states.md"; exit 1; }

check-web: $(STAMPS)/npm
	cd web && npx --no-install prettier --check --log-level warn "src/**/*.{vue,ts}" "!src/api/schema.d.ts" && npx --no-install vue-tsc --noEmit && npx --no-install eslint src --max-warnings 0 && npx --no-install vitest run --silent

test:
	@$(BESIDE) check-python check-web web/dist/index.html $(STAMPS)/chromium $(STAMPS)/servers
	.venv/bin/pytest -q -n 3 --dist loadscope --no-loadscope-reorder

fresh:
	rm -rf var

# The picture of rooms and parts in docs/architecture.md.
layers: $(STAMPS)/install
	$(PY) -m bench.layers

# What is known of faults in the packages that are used; asks their registries, so it is no part of `make test`.
audit:
	$(PYTHON) -m venv .venv-audit && .venv-audit/bin/pip install -q --disable-pip-version-check pip-audit
	.venv-audit/bin/pip-audit --require-hashes --disable-pip -r requirements.txt
	npm audit --prefix web --omit=dev

bench: setup $(STAMPS)/chromium
	$(PY) -m bench

# Houses of 10,000, 100,000 and 300,000 SKUs over HTTP; the largest takes far longer than the others together.
bench-house: setup
	$(PY) -m bench.house

# A week of the practice world with three people at work in a house of 10,000 SKUs: some 20 minutes.
bench-week: setup
	$(PY) -m bench.house.week

shots: setup $(STAMPS)/chromium
	$(PY) -m tests.browser.shots

states: $(STAMPS)/install
	{ printf '# States\n\nWritten by `make states` from `src/amber_lane/core/states.py`; nothing else writes a state.\n\n'; $(PY) docs/make_states.py; } > docs/states.md
