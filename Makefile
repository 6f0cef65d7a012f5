# Two commands do everything on a fresh machine: make demo, and make test.
PYTHON ?= python3
export PYTHON
BIN := .venv/bin

.PHONY: setup demo test test-all check bench screenshots docs lock desktop dist

setup:
	@tools/setup.sh

demo: setup
	@$(BIN)/calor demo

# two workers: the machines that count have two cores
# with COVERAGE=1 what of the code the tests ran through is printed too, which takes twice as long
test: setup
	@$(BIN)/python -m pytest -n 2 --dist worksteal -m "not long" $(if $(COVERAGE),--cov --cov-report=term)

test-all: setup
	@$(BIN)/python -m pytest -n 2 --dist worksteal

check: setup
	$(BIN)/ruff check
	$(BIN)/ruff format --check
	$(BIN)/mypy
	$(BIN)/lint-imports

# one thread for the linear algebra, as the command has it
bench: export OPENBLAS_NUM_THREADS = 1
bench: setup
	@command -v xvfb-run >/dev/null 2>&1 && xvfb-run -a -s "-screen 0 1400x900x24" $(BIN)/python benchmarks/bench.py || $(BIN)/python benchmarks/bench.py

screenshots: setup
	@command -v xvfb-run >/dev/null 2>&1 && xvfb-run -a -s "-screen 0 1400x900x24" $(BIN)/python tools/make_screenshots.py || $(BIN)/python tools/make_screenshots.py

docs: setup
	@$(BIN)/python tools/make_docs.py

lock:
	@$(BIN)/pip-compile --quiet --generate-hashes --no-emit-index-url --no-emit-trusted-host --no-emit-find-links --strip-extras --allow-unsafe -o requirements.lock requirements.in
	@$(BIN)/pip-compile --quiet --generate-hashes --no-emit-index-url --no-emit-trusted-host --no-emit-find-links --strip-extras --allow-unsafe -c requirements.lock -o requirements-dist.lock requirements-dist.in

desktop: setup
	@tools/install_desktop.sh

# sdist and wheel, the loop compiled into it, by a small environment of their own
dist:
	@tools/dist.sh
