# Each target sets up what it needs: the virtual environment .venv, the packages, and the program itself, installed as
# users install it. PYTHON picks the interpreter (3.11 or newer).
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
SOURCES := $(shell find src -type f -not -path '*/__pycache__/*' -not -path '*.egg-info/*')
DEMO ?= build/skerry-haven

INTERPRETER := @micropython/micropython-webassembly-pyscript@1.27.0

.PHONY: kernel ports demo test explore fuzz lint package bench accuracy catalog findings screenshots clean

demo: $(VENV)/.installed
	@mkdir -p $(dir $(DEMO))
	$(BIN)/hushed-wire demo $(DEMO) --long

test: $(VENV)/.installed $(VENV)/.tools
	$(BIN)/python tests/run.py

# Property tests with other examples than the suite draws.
explore: $(VENV)/.installed $(VENV)/.tools
	$(BIN)/python tests/run.py --explore $(or $(MINUTES),10)

# Hostile input for every reader, guided by coverage; SEED=1 for the same inputs again, TARGETS="vcd table" for some of them.
fuzz: $(VENV)/.installed $(VENV)/.tools
	@$(BIN)/pip install --quiet --disable-pip-version-check 'atheris>=3.0' >/dev/null 2>&1 || \
	  { echo "atheris, by which inputs are guided, could not be installed here"; exit 1; }
	$(BIN)/python tests/fuzz.py --minutes $(or $(MINUTES),10) --seed $(or $(SEED),0) $(TARGETS)

# Emitted drivers, on all that can run them here, and the table of what was shown so; a micro-controller's Python interpreter comes from the
# npm registry.
ports: $(VENV)/.installed $(VENV)/.tools build/ports/node_modules
	@rm -f build/ports/proven.jsonl
	HUSHED_WIRE_PROVEN=$(CURDIR)/build/ports/proven.jsonl $(BIN)/python tests/run.py test_emit.py
	$(BIN)/python tests/ports/table.py build/ports/proven.jsonl docs/port.md

build/ports/node_modules:
	@command -v npm >/dev/null || echo "npm is not here: on Debian: apt-get install npm"
	@npm install --silent --no-fund --no-audit --prefix build/ports $(INTERPRETER) >/dev/null 2>&1 || \
	  echo "the interpreter could not be installed; the test that wants it is skipped"

# Debian's kernels in an emulated machine, with real device files: links, scan, send, record. Wants qemu; a few minutes.
kernel: $(VENV)/.installed $(VENV)/.tools
	$(BIN)/python tests/kernel/boot.py -o docs/kernel-log.txt

lint: $(VENV)/.installed $(VENV)/.tools
	$(BIN)/ruff check src tests bench setup.py
	$(BIN)/ruff format --check src tests bench setup.py
	$(BIN)/mypy

# The package as it would be published, and as users install it: built with isolation, by every Python that is to be had, in empty environments.
package:
	$(PYTHON) tests/installs.py $(TESTS)

bench: $(VENV)/.installed $(VENV)/.tools
	$(BIN)/python bench/run.py $(ARGS)

catalog: $(VENV)/.installed
	PYTHONPATH=src $(BIN)/python -c "from hushed_wire.part.catalogs import compile_all; compile_all(); from hushed_wire.picture.font_columns import compile_font; compile_font('5x7')"

accuracy: $(VENV)/.installed $(VENV)/.tools
	$(BIN)/python bench/accuracy.py $(ARGS)

findings: $(VENV)/.installed $(VENV)/.tools
	$(BIN)/python -c "from hushed_wire.diagnosis.explained import as_page; print(as_page(), end='')" > docs/findings.md

screenshots: $(VENV)/.installed $(VENV)/.tools
	bash docs/make-screenshots.sh

$(BIN)/pip:
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || \
	  { echo "Python 3.11 or newer is needed; name one with: make PYTHON=python3.12 …"; exit 1; }
	@$(PYTHON) -m venv $(VENV) || \
	  { rm -rf $(VENV); echo "python3 -m venv does not work here; on Debian: apt-get install python3-venv"; exit 1; }

# As users install it.
$(VENV)/.installed: $(SOURCES) pyproject.toml README.md setup.py | $(BIN)/pip
	@rm -rf build/lib build/bdist.*
	$(BIN)/pip install --quiet --disable-pip-version-check '.[figures]'
	@touch $@

# What only developers need.
$(VENV)/.tools: pyproject.toml | $(VENV)/.installed
	$(BIN)/python -c "import tomllib; print('\n'.join(tomllib.load(open('pyproject.toml', 'rb'))['project']['optional-dependencies']['dev']))" > $(VENV)/requirements.txt
	$(BIN)/pip install --quiet --disable-pip-version-check -r $(VENV)/requirements.txt
	@# spidev comes as source only; without a compiler and Python's headers its tests are skipped, all else works.
	@$(BIN)/pip install --quiet --disable-pip-version-check 'spidev>=3.6' >/dev/null 2>&1 || \
	  echo "spidev could not be built (on Debian: apt-get install gcc python3-dev); its tests will be skipped"
	@touch $@

clean:
	rm -rf $(VENV) build dist src/*.egg-info .mypy_cache .ruff_cache .hypothesis
