# Two commands are enough: make demo, make test.
PORT ?= 8321
WORKSPACE ?= workspace
BIN = .venv/bin
NODE = node_modules/.bin
RUN = env -u PYTHONDONTWRITEBYTECODE $(BIN)

.PHONY: demo test check cluster-demo test-share bench vendor clean

demo: .venv/.ready            ## install, make the demo job, serve it
	$(RUN)/terrazza demo --workspace "$(WORKSPACE)" --port $(PORT)

test: .venv/.ready-test       ## install what tests need on top, and run them all
	$(RUN)/pytest

check: .venv/.ready-test node_modules/.ready  ## what a machine can say of the code without running it
	$(BIN)/ruff check --quiet src tests benchmarks scripts
	$(BIN)/ruff format --quiet --check src tests benchmarks scripts
	$(NODE)/biome ci --diagnostic-level=warn --reporter=summary
	$(NODE)/tsc --project .
	node --test --test-reporter=dot tests/js
	$(NODE)/pyright --threads 2

cluster-demo: .venv/.ready-cluster  ## the demo recipe through a scheduler and two workers on this machine
	scripts/cluster-demo "$(WORKSPACE)-cluster"

.venv/.ready: pyproject.toml scripts/setup
	scripts/setup

.venv/.ready-test: pyproject.toml scripts/setup
	scripts/setup test

node_modules/.ready: package-lock.json scripts/setup
	scripts/setup scripts

.venv/.ready-cluster: pyproject.toml scripts/setup
	scripts/setup cluster

test-share:                   ## how much of the code is test code
	@$(BIN)/python scripts/test-share

bench: .venv/.ready-test      ## the demo job against its truth, with time and memory
	$(BIN)/python benchmarks/demo_quality.py

vendor:                       ## fetch the browser libraries and fonts anew
	scripts/refresh-vendor

clean:
	rm -rf .venv workspace build
