# Two commands do everything on a fresh machine: make demo, and make test.
PYTHON ?= python3
export PYTHON
BIN := .venv/bin

.PHONY: setup demo test check bench screenshots docs lock desktop

setup:
	@tools/setup.sh

demo: setup
	@$(BIN)/calor demo

test: setup
	@$(BIN)/python -m pytest

check: setup
	$(BIN)/ruff check src tests tools benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: setup
	@command -v xvfb-run >/dev/null 2>&1 && xvfb-run -a -s "-screen 0 1400x900x24" $(BIN)/python benchmarks/bench.py || $(BIN)/python benchmarks/bench.py

screenshots: setup
	@command -v xvfb-run >/dev/null 2>&1 && xvfb-run -a -s "-screen 0 1400x900x24" $(BIN)/python tools/make_screenshots.py || $(BIN)/python tools/make_screenshots.py

docs: setup
	@$(BIN)/python tools/make_docs.py

lock:
	@$(BIN)/pip-compile --quiet --generate-hashes --no-emit-index-url --no-emit-trusted-host --strip-extras --allow-unsafe -o requirements.lock requirements.in

desktop: setup
	@tools/install_desktop.sh
