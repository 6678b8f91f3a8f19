# Two commands do everything on a machine with Python 3.11 or newer: "make demo" and "make test".
PYTHON ?= python3
VENV ?= .venv
BIN = $(VENV)/bin
# A module's tests stay together; many wait more than they work, so that there is one process more than processors.
SIDE_BY_SIDE ?= -n 3 --dist loadscope --no-loadscope-reorder

.PHONY: demo test mutants test-under-load weather attack mends names formats check schema figures survey-figures fuzz browser-agreement screenshots clean

# lock.txt holds the versions that were tested; "pip install ." takes any that pyproject.toml allows.
$(BIN)/.ready: pyproject.toml lock.txt
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --constraint lock.txt --editable '.[test]'
	touch $@

demo: $(BIN)/.ready          ## set up, then review the simulated site Marram Ferries
	$(BIN)/pewter demo

test: $(BIN)/.ready          ## set up, then run every test
	$(BIN)/python -m pytest $(SIDE_BY_SIDE)

test-under-load: $(BIN)/.ready   ## every test, while ten other programs keep the processors busy
	$(BIN)/python tests/load.py 10 $(BIN)/python -m pytest $(SIDE_BY_SIDE)

attack: $(BIN)/.ready        ## some 690 attacks on the built program: all have to be survived
	$(BIN)/python tests/attack/runner.py

weather: $(BIN)/.ready       ## look at sound servers behind failing connections, 30 times each: no false gap, and the failing is told (nginx, Apache httpd)
	$(BIN)/python tests/weather/runner.py

check: $(BIN)/.ready         ## style and types
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/mypy

schema: $(BIN)/.ready        ## write the schemas in docs/ anew from the types
	$(BIN)/python -m pewter.report.schema docs

figures: $(BIN)/.ready       ## measure start-up, a review through the 100 ms relay, the share of tests, lines of reports, and surveys
	$(BIN)/python benchmarks/figures.py
	$(BIN)/python benchmarks/report.py
	$(BIN)/python benchmarks/survey.py

survey-figures: $(BIN)/.ready   ## measure surveys of up to 3,000 sites on nginx: CPU, memory, silent sites, kills, a cluster (root; some 12 minutes)
	$(BIN)/python benchmarks/survey.py

fuzz: $(BIN)/.ready          ## fuzz every parser of hostile octets for ten minutes
	$(BIN)/python -m pip install --quiet --disable-pip-version-check atheris
	$(BIN)/python tests/fuzz.py .fuzz -max_total_time=600 -max_len=4096 -timeout=10

clean:
	rm -rf $(VENV) build dist .mypy_cache .ruff_cache .pytest_cache .hypothesis .fuzz pewter-demo

browser-agreement: $(BIN)/.ready   ## hold predictions against real Chromium and Firefox (chromium, chromium-driver, firefox-esr, libnss3-tools, iproute2; needs root)
	unshare -n -m sh -c 'ip link set lo up && exec $(BIN)/python tests/browser/agreement.py'

mends: $(BIN)/.ready   ## put the printed lines in place on nginx, Apache httpd, HAProxy, Caddy, lighttpd, Django and Express, one gap at a time and whole reports at once, by hand and as the diff that is fitted to the configuration (needs npm, and root for a network namespace of each)
	$(BIN)/python tests/mends/runner.py --write
	$(BIN)/python tests/mends/runner.py --diff
	$(BIN)/python tests/mends/whole.py
	$(BIN)/python tests/mends/whole.py --diff
	$(BIN)/python tests/mends/real.py

names: $(BIN)/.ready   ## hold the dns area against BIND, NSD, Knot, PowerDNS and unbound (needs root, for network namespaces)
	$(BIN)/python tests/names/runner.py

formats: $(BIN)/.ready   ## hold every written format against independent readers and validators (needs chromium, chromium-driver, npm, a Java runtime, promtool, cmark-gfm)
	$(BIN)/python tests/report/validators.py

mutants: $(BIN)/.ready      ## change the judge's code in 600 small ways, and count what the fast tests notice (some 40 minutes)
	$(BIN)/python tests/mutation/runner.py --count 600
