# make demo   sets up everything and runs the main job on the sample project
# make test   sets up everything and passes the tests, less those of tests/slow.txt; LAPIDAR_TEST_ALL=1: all
# make check  linter and type checker
# make test-tools  as root, with apt: the programs that some tests drive (make test lists what it left out)
# make attack MINUTES=30  faults, kills, flipped bits and changed texts, for so long
# make helper     builds the helpers of src/lapidar/core/system/native again, byte for byte
PYTHON ?= python3
VENV   := .venv
WHEELS := $(VENV)/wheels
BIN    := $(VENV)/bin
# By all processors; what nobody imports here, a third of all files, is left out.
COMPILE := $(BIN)/python -m compileall -qq -j 0 -x '/(tests?|mypy|pip|setuptools|_vendor)/'
SOURCES := $(shell find src -type f -not -path '*/__pycache__/*' -not -path '*.egg-info*')

.PHONY: demo test attack test-tools helper check benchmarks clean

# What the tests need besides is fetched by them: the demo begins a minute earlier.
demo: $(if $(wildcard $(VENV)/.installed),$(VENV)/.installed,$(VENV)/.ready)
	rm -rf lapidar-demo
	$(BIN)/lapidar demo

test: $(VENV)/.installed
	$(BIN)/python tests/run.py $(TESTS)

# What some tests drive besides Python: R (from Debian), another root's static shell, older processors, the package databases of
# other systems, Perl, Tcl, the system's tracer of calls, what draws with its fonts, a Python package of its own. As root on a machine with apt; elsewhere it says what is missing and goes on.
TOOLS := docker-registry skopeo umoci runc busybox-static qemu-user rpm btrfs-progs perl tcl libmagic1 file strace graphviz \
         fonts-dejavu-core python3-matplotlib
# A batch system of two nodes.
BATCH_TOOLS := slurmctld slurmd slurm-client munge
# R with its recommended packages, what compiles packages for it, and a few more of these; without what they recommend.
R_TOOLS := r-base-core r-recommended r-base-dev r-cran-digest r-cran-jsonlite r-cran-callr r-cran-rcpp r-cran-ggplot2 \
           r-cran-lme4 r-cran-vegan r-cran-data.table
test-tools:
	@for tool in $(TOOLS); do \
	  dpkg -s $$tool > /dev/null 2>&1 || apt-get install -y -q $$tool > /dev/null 2>&1 || echo "not installed: $$tool"; \
	done
	@for tool in $(R_TOOLS) $(BATCH_TOOLS); do \
	  dpkg -s $$tool > /dev/null 2>&1 || apt-get install -y -q --no-install-recommends $$tool > /dev/null 2>&1 \
	  || echo "not installed: $$tool"; \
	done

# Attack the program for so many minutes: faults of system calls, kills, flipped bits, changed texts.
MINUTES ?= 30
attack: $(VENV)/.installed
	$(BIN)/python tests/attack/run.py --minutes $(MINUTES) $(if $(SEED),--seed $(SEED))

helper:
	src/lapidar/core/system/native/build.sh

check: $(VENV)/.installed
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/mypy

benchmarks: $(VENV)/.installed .venv-benchmarks/.made
	$(BIN)/python benchmarks/all.py

# At least 20,000 files and 500 MB: the scientific packages and a notebook server.
.venv-benchmarks/.made:
	$(PYTHON) -m venv .venv-benchmarks
	.venv-benchmarks/bin/python -m pip install --quiet ".[benchmarks]"
	touch $@

$(VENV)/.ready: pyproject.toml $(SOURCES)
	@echo "Setting up $(VENV) (once; this fetches the packages that lapidar and its demo use)"
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --no-compile --force-reinstall --no-deps .
	$(BIN)/python -m pip install --quiet --no-compile ".[demo,compare,exchange]"
	rm -rf build
	-$(COMPILE) $(VENV)/lib
	touch $@

# All wheels are kept: the tests compare each with the package captured from the environment it was installed in.
$(VENV)/.wheels: pyproject.toml
	@echo "Setting up $(VENV) (once; this fetches the packages that lapidar and its tests use)"
	$(PYTHON) -m venv $(VENV)
	rm -rf $(WHEELS)
	$(BIN)/python -m pip wheel --quiet --wheel-dir $(WHEELS) ".[dev]"
	touch $@

# Compiling takes longer than all else here: by all processors, and not by pip with one.
$(VENV)/.installed: $(VENV)/.wheels $(SOURCES)
	rm -f $(WHEELS)/lapidar-*.whl
	rm -rf build
	$(BIN)/python -m pip wheel --quiet --no-deps --wheel-dir $(WHEELS) .
	rm -rf build
	$(BIN)/python -m pip install --quiet --no-index --no-compile --find-links $(WHEELS) --force-reinstall --no-deps lapidar
	$(BIN)/python -m pip install --quiet --no-index --no-compile --find-links $(WHEELS) --upgrade --upgrade-strategy eager "lapidar[dev]"
	-$(COMPILE) $(VENV)/lib
	touch $@

clean:
	rm -rf $(VENV) .venv-benchmarks lapidar-demo build
