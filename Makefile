# `make demo` and `make test` need nothing but Python 3.11 or newer and make.
PYTHON ?= python3
VENV ?= .venv
# Releases to install in place of the newest, as in WITH="typer==0.21.0".
WITH ?=
EACH = $(foreach one,$(WITH),"$(one)")
BIN := $(VENV)/bin
READY := $(VENV)/ready

# Compiled modules are kept: without them, every start of the command takes twice as long.
unexport PYTHONDONTWRITEBYTECODE

# For `make release`: what it is to be called, and the Pythons to try it with.
VERSION ?=
PYTHONS ?=

# For `make bench`: which cases; all, if none is named.
CASE ?=

# For `make portable`: the embeddable package of Python for Windows, and where to build the stick.
ARCHIVE ?=
TO ?= dist/zinker-portable

.PHONY: demo test soak check bench conformance screenshots schemas manual release portable clean

demo: $(READY)
	$(BIN)/zinker demo

# What one runs all day; `make soak` has what takes long: hundreds of kills, storms, full disks, large data.
test: $(READY)
	$(BIN)/python -m pytest -n auto --dist worksteal -m "not soak"

soak: $(READY)
	$(BIN)/python -m pytest -n auto --dist worksteal -m soak

check: $(READY)
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/python tools/layers.py src/zinker

# CASE="text json" runs these alone; `python bench/run.py --help` names all.
bench: $(READY)
	$(BIN)/python bench/run.py $(CASE) --write

conformance: $(READY)
	$(BIN)/python tools/conformance_table.py docs/formats.md

screenshots: $(READY)
	$(BIN)/python tools/screenshots.py docs/screenshots

schemas: $(READY)
	$(BIN)/python tools/schemas.py docs

# The manual page and what shells need to complete, as the commands are now.
manual: $(READY)
	$(BIN)/python tools/manual.py packaging

# Wheel and source distribution in dist/, built twice, checked and tried; VERSION=0.2.0 names a new one first.
release: $(READY)
	$(BIN)/python tools/release.py --to dist $(if $(VERSION),--version $(VERSION)) $(foreach one,$(PYTHONS),--python $(one))

# A folder, and a ZIP archive of it, that runs from a stick on a Windows machine without Python.
portable: $(READY)
	$(if $(ARCHIVE),,$(error Say which Python: make portable ARCHIVE=python-3.11.9-embed-amd64.zip))
	$(BIN)/python tools/portable.py "$(ARCHIVE)" "$(TO)" --with $(EACH)

$(READY): pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --editable '.[dev]' $(EACH)
	touch $(READY)

clean:
	rm -rf .venv .venv-*
