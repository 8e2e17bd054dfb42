# `make demo` and `make test` need nothing but Python 3.11 or newer and make.
PYTHON ?= python3
BIN := .venv/bin
READY := .venv/ready

.PHONY: demo test check bench screenshots schemas clean

demo: $(READY)
	$(BIN)/zinker demo

test: $(READY)
	$(BIN)/python -m pytest -n auto

check: $(READY)
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/python tools/layers.py src/zinker

bench: $(READY)
	$(BIN)/python bench/start.py --write docs/benchmarks.md
	$(BIN)/python bench/capture.py --write docs/benchmarks.md
	$(BIN)/python bench/registry.py --write docs/benchmarks.md
	$(BIN)/python bench/tenant.py --write docs/benchmarks.md

screenshots: $(READY)
	$(BIN)/python tools/screenshots.py docs/screenshots

schemas: $(READY)
	$(BIN)/python tools/schemas.py docs

$(READY): pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --editable '.[dev]'
	touch $(READY)

clean:
	rm -rf .venv
