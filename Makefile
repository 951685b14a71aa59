# `make demo` and `make test` do everything on a fresh machine: they make .venv and install into it.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test lint bench docs clean

.venv/installed: pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@

demo: .venv/installed
	rm -rf build/demo
	$(BIN)/kettlepost demo build/demo

test: .venv/installed
	$(BIN)/pytest

lint: .venv/installed
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

docs: .venv/installed
	$(BIN)/python docs/make_findings.py

bench: .venv/installed
	$(BIN)/python -m bench

clean:
	rm -rf .venv build dist .pytest_cache .mypy_cache .ruff_cache .hypothesis
