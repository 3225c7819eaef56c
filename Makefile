PYTHON ?= python3
BIN := .venv/bin
STAMP := .venv/.ready

.PHONY: setup demo test check format bench bench-window bench-large truth fuzz shots clean

setup: $(STAMP)

$(STAMP): requirements.lock pyproject.toml scripts/system_packages.sh $(wildcard src/jugal/kernels/*.py)
	sh scripts/system_packages.sh
	test -x $(BIN)/python || $(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	$(BIN)/python -m jugal.kernels.warm
	touch $(STAMP)

demo: setup
	$(BIN)/jugal demo

test: setup
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m pytest -n 2 --dist loadfile

check: setup
	$(BIN)/ruff format --check src tests bench
	$(BIN)/ruff check src tests bench
	$(BIN)/mypy
	$(BIN)/lint-imports

format: setup
	$(BIN)/ruff format src tests bench
	$(BIN)/ruff check --fix src tests bench

bench: setup
	$(BIN)/python -m bench.speed

bench-window: setup
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m bench.window

bench-large: setup
	$(BIN)/python -m bench.large
	$(BIN)/python -m bench.damaged

truth: setup
	$(BIN)/python -m bench.truth
	$(BIN)/python -m bench.photos
	$(BIN)/python -m bench.mosaics

fuzz: setup
	$(BIN)/python -m bench.fuzz

shots: setup
	$(BIN)/python -m bench.shots

clean:
	rm -rf .venv build
