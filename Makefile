# Two commands do everything: `make demo` plays the story, `make test` runs every check and test.
PYTHON ?= python3
VENV   ?= .venv
BIN     = $(VENV)/bin

.PHONY: demo serve test quick mutants bench faults waits fuzz servers systems check screenshots venv dev clean

demo: venv            ## play the whole story on made-up data
	$(BIN)/nostos demo

serve: venv           ## play the story, then show live and staging side by side in a browser
	$(BIN)/nostos demo --serve

test: check servers systems   ## every check and every test
	$(BIN)/python -m tests

# The real systems that tests run on, from Debian's packages. Where they cannot be installed, the tests that need them
# are skipped and say what is missing.
PACKAGES = zstd postgresql pgbouncer openssh-server openssh-client pypy3 mariadb-server php-cli php-mysql php-gd php-xml php-mbstring wordpress wordpress-theme-twentytwentythree chromium chromium-driver nginx apache2
servers:
	@if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null && ! dpkg -s $(PACKAGES) >/dev/null 2>&1; then \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $(PACKAGES) \
	    >/dev/null || echo "Some servers could not be installed; their tests will be skipped."; fi

quick: dev            ## what a change in one room needs, in under a minute (ROOM=plan; else where something differs)
	$(BIN)/python -m tests.quick $(ROOM)

mutants: dev          ## change critical lines one at a time: which changes does no test notice? (SECONDS=600)
	$(BIN)/python -m tests.mutants $(or $(SECONDS),600)

bench: dev servers    ## the performance bars, each against a plain tool in one run (long)
	for bar in starting database postgresql files merge changes visitors remote; do $(BIN)/python -m bench.$$bar || exit 1; done

faults: dev           ## kill every operation at every point, recover, and look (some minutes)
	$(BIN)/python -m tests.faults

waits: dev servers    ## how long visitors wait while merges run on a site that has grown (long)
	$(BIN)/python -m tests.waits

fuzz: dev             ## give every reader of foreign text anything, SECONDS each (60); guided where atheris is there
	$(BIN)/python -m tests.fuzz $(or $(SECONDS),60)

check: dev            ## style and types
	$(BIN)/ruff check .
	$(BIN)/mypy

screenshots: dev      ## make docs/screenshots afresh from the demo (needs chromium, xterm, Xvfb, ImageMagick)
	$(BIN)/python docs/make_screenshots.py

venv: $(VENV)/.installed
$(VENV)/.installed: pyproject.toml
	@$(PYTHON) -c 'import ensurepip, venv' 2>/dev/null || { echo "Python's venv is missing. On Debian: apt-get install python3-venv"; exit 3; }
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable .
	@touch $@

dev: $(VENV)/.dev
$(VENV)/.dev: $(VENV)/.installed
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	@touch $@

# A real system in Python that tests run on.
systems: $(VENV)/.systems
$(VENV)/.systems: $(VENV)/.dev
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[systems]' && touch $@ || \
	  echo "The Python content system could not be installed; its test will be skipped."

clean:
	rm -rf $(VENV) build src/*.egg-info .mypy_cache .ruff_cache .hypothesis
