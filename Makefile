# Everything that is done here, by name. 'make demo' and 'make test' need Python 3.11+, git and make, no more.
SHELL := /bin/bash
PYTHON ?= $(shell for p in python3 python3.13 python3.12 python3.11; do command -v $$p >/dev/null && $$p -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null && echo $$p && break; done)
VENV := .venv
BIN := $(VENV)/bin
CONSOLE := src/cairnwind/service/console
HELP := src/cairnwind/service/help
FORMS := $(wildcard src/cairnwind/forms/*.py) src/cairnwind/service/calls.py tools/describe.py $(wildcard src/cairnwind/commands/*.py)
CONSOLE_SOURCES := $(shell find console -type f -not -path '*/node_modules/*' -not -name described.d.ts 2>/dev/null)
PIP := $(BIN)/python -m pip --disable-pip-version-check --quiet
ROWS ?= .
# One more than cores: many tests wait for time to pass, or for another process.
WORKERS ?= $(shell echo $$(($$(nproc) + 1)))
EVENTS ?= 1000000
BOARD := src/cairnwind/boards/images/board
WIRELESS := src/cairnwind/boards/images/wireless
CONSUMER := tests/consumer/node_modules/.package-lock.json

.PHONY: help release help-pages setup demo wireless package audit fresh-machine prepared test lint bench soak mutants screenshots console packages kernel-lab clean

help:
	@echo "make demo         set everything up and start the demo site"
	@echo "make test         set everything up and run all tests"
	@echo "make lint         ruff, mypy, import-linter, svelte-check"
	@echo "make bench        measure; ROWS=pattern for some rows"
	@echo "make soak         random sites with random rules, watched by an oracle; EVENTS=number"
	@echo "make mutants      faults seeded on purpose, and which test catches each"
	@echo "make screenshots  the pictures in docs/screenshots, from the demo site"
	@echo "make kernel-lab   a simulated kernel for the tests of real pins, if there is none"
	@echo "make wireless     the firmware behind a broker as a program, for 'cairnwind demo --broker'"
	@echo "make package      what is installed elsewhere: a source package and wheels, in dist/"
	@echo "make release VERSION=X  changelog, packages, sums, page, tag; DRY=--dry shows the page"
	@echo "make fresh-machine a machine of its own from Debian's base, with the service under its systemd (as root)"
	@echo "make audit        what is known against the packages it is made of, where somebody can be asked"
	@echo "make help-pages   the docs as pages of the service, built if they changed"
	@echo "make console      the web console, built if its sources changed"
	@echo "make clean        remove what was built"

setup: $(VENV)/.run console $(HELP)/index.html $(BOARD)

$(VENV)/.made:
	@test -n "$(PYTHON)" || { echo "Python 3.11 or newer is needed, and is not on the PATH."; exit 1; }
	@$(PYTHON) -m venv $(VENV) || { echo "Python cannot make virtual environments here: install its venv package (Debian: apt install python3-venv)."; exit 1; }
	@touch $@

$(VENV)/.run: $(VENV)/.made requirements/run.txt pyproject.toml
	@echo "setting up: Python packages"
	@$(PIP) install --require-hashes -r requirements/run.txt
	@$(PIP) install --no-build-isolation --no-deps --editable .
	@touch $@

$(VENV)/.dev: $(VENV)/.run requirements/dev.txt
	@echo "setting up: packages for tests"
	@$(PIP) install --require-hashes -r requirements/dev.txt
	@touch $@

# Debian packages that tests and pictures need, through apt: see tools/packages.sh.
packages:
	@tools/packages.sh chromium fonts-dejavu-core kmod liblo-tools mbpoll gcc libc6-dev gcc-avr avr-libc libsimavr-dev libelf-dev mosquitto avrdude libmosquitto-dev gcc-arm-none-eabi qemu-system-arm systemd udev nginx-light iproute2

# The simulated kernel that tests/lab runs in; kept in build/, which 'make clean' leaves alone but for what is quick to build.
kernel-lab: build/kernel-lab/linux-gpiosim

build/kernel-lab/linux-gpiosim: $(wildcard tools/kernel-lab/*)
	@mkdir -p build/kernel-lab
	@cp tools/kernel-lab/*.sh tools/kernel-lab/*.patch tools/kernel-lab/*.fragment build/kernel-lab/
	@BUILD=$(CURDIR)/build/kernel-tree build/kernel-lab/build-kernel.sh
	@rm -rf build/kernel-tree

console: $(CONSOLE)/index.html

$(CONSOLE)/index.html: $(CONSOLE_SOURCES) | $(VENV)/.run
	@echo "setting up: console"
	@tools/with-node.sh $(BIN) npm --prefix console install --no-save --no-audit --no-fund --loglevel=error
	@tools/with-node.sh $(BIN) npm --prefix console run --silent build
	@touch $@

# The docs as pages of the service. What only a debugger or another language needs is left out, and what has the time of day in it.
help-pages: $(HELP)/index.html

$(HELP)/index.html: mkdocs.yml $(wildcard docs/*.md docs/*/*.svg) | $(VENV)/.run
	@echo "setting up: docs"
	@NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build -q
	@find $(HELP) -name '*.map' -delete
	@cp $(VENV)/lib/python3*/site-packages/mkdocs_material-*.dist-info/licenses/LICENSE $(HELP)/licence-of-the-theme.txt
	@rm -rf $(HELP)/assets/javascripts/lunr $(HELP)/sitemap.xml $(HELP)/sitemap.xml.gz
	@touch $@

# The console's types are those that the service describes.
console/src/state/described.d.ts: $(FORMS) | console
	@mkdir -p build
	@$(BIN)/python tools/describe.py build/openapi.json
	@tools/with-node.sh $(BIN) npm --prefix console run --silent types > /dev/null

# The firmware as a program: the demo's serial board. Without a compiler the demo simulates that board another way.
$(BOARD): $(wildcard firmware/*.c firmware/*.h firmware/Makefile)
	@command -v cc >/dev/null || tools/packages.sh gcc libc6-dev || true
	@if command -v cc >/dev/null; then echo "setting up: firmware"; $(MAKE) -s -C firmware native && cp build/firmware/board $@; \
	else echo "no C compiler: the demo's serial board will be simulated without its firmware"; fi

# The same behind a message broker, for 'cairnwind demo --broker'.
wireless: $(WIRELESS)

$(WIRELESS): $(wildcard firmware/*.c firmware/*.h firmware/Makefile) | packages
	@$(MAKE) -s -C firmware wireless && cp build/firmware/wireless $@

# What is installed elsewhere.
package: console $(HELP)/index.html $(BOARD)
	@$(BIN)/python tools/package.py

# A release: make release VERSION=0.7.0; with DRY=--dry only its page, on the terminal.
release: console $(HELP)/index.html $(BOARD)
	@$(BIN)/python tools/release.py $(VERSION) $(DRY)

# As root: a machine of its own.
fresh-machine: $(VENV)/.run console $(HELP)/index.html $(BOARD)
	@tools/packages.sh debootstrap systemd-container
	@mkdir -p build
	@$(BIN)/python tools/fresh_machine.py

# What is known against the packages it is made of, where somebody can be asked.
audit: $(VENV)/.run console
	@mkdir -p build
	@tools/audit.sh $(BIN)

demo: setup
	@$(BIN)/cairnwind demo

# Clients that know nothing of this service but what it says of itself.
$(CONSUMER): tests/consumer/package-lock.json | $(VENV)/.run
	@echo "setting up: clients for the tests"
	@tools/with-node.sh $(BIN) npm --prefix tests/consumer install --no-save --ignore-scripts --no-audit --no-fund --loglevel=error
	@touch $@

# Everything that lint and tests need. Compiled ahead: the tests begin hundreds of processes.
prepared: setup $(VENV)/.dev $(CONSUMER) console/src/state/described.d.ts packages $(WIRELESS)
	@mkdir -p build
	@$(BIN)/python -m compileall -q src tests bench

test: prepared
	@$(BIN)/python -m pytest -n $(WORKERS) --dist loadfile --no-loadscope-reorder

lint: $(VENV)/.dev console console/src/state/described.d.ts
	@$(BIN)/ruff check .
	@$(BIN)/mypy
	@$(BIN)/lint-imports --config pyproject.toml
	@tools/with-node.sh $(BIN) npm --prefix console run --silent check

bench: setup $(VENV)/.dev packages
	@$(BIN)/python -m bench $(ROWS)

screenshots: setup $(VENV)/.dev
	@tools/packages.sh chromium xvfb xterm imagemagick fonts-dejavu-core
	@$(BIN)/python tools/screenshots.py

# Random sites for as long as one likes: EVENTS=10000000 for the whole record.
soak: $(VENV)/.dev
	@$(BIN)/python -m tests.invariants --events $(EVENTS)

# Faults seeded on purpose, and which test catches each.
mutants: $(VENV)/.dev
	@$(BIN)/python tools/mutants.py

clean:
	rm -rf build/lib build/bdist* build/firmware dist $(CONSOLE) $(HELP) console/node_modules
