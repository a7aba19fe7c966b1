# make demo and make test set up all they need; everything else assumes one of them ran.
PYTHON ?= python3
VENV   := .venv
BIN    := $(VENV)/bin
STAMP  := $(VENV)/.ready
SERVERS := prosody lua-unbound dnsmasq-base dovecot-imapd
# Commands of the installed program run many times: they are byte-compiled as an installed package is.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test servers check browser soak bench lock train reference screenshots clean

demo: $(STAMP)
	@rm -rf demo
	@$(BIN)/whenvoca demo demo

test: $(STAMP) servers check
	$(BIN)/python -m pytest -n 3 -m "not soak"

# Servers that tests start by themselves, from the system's packages: installed where that may be done.
servers:
	@command -v prosody >/dev/null && command -v dnsmasq >/dev/null && PATH=$$PATH:/usr/sbin command -v dovecot >/dev/null || { [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null && \
	  export DEBIAN_FRONTEND=noninteractive RUNLEVEL=1 && \
	  { apt-get install -y -qq --no-install-recommends $(SERVERS) || { apt-get update -qq && apt-get install -y -qq --no-install-recommends $(SERVERS); }; } \
	  >/dev/null 2>&1; } || echo "SERVERS ARE MISSING: tests of chats or mailboxes on a server or of DNS records will be skipped (apt-get install $(SERVERS))"

check: $(STAMP)
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/mypy
	$(BIN)/mypy --follow-imports=silent --ignore-missing-imports --explicit-package-bases benchmarks
	$(BIN)/lint-imports

# The browser and what reads pages for accessibility, for the long tests only.
browser: $(STAMP)
	@$(BIN)/python -m pip install -q --disable-pip-version-check "playwright>=1.45,<2"
	@command -v chromium >/dev/null && command -v npm >/dev/null || { [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null && \
	  export DEBIAN_FRONTEND=noninteractive && apt-get install -y -qq --no-install-recommends chromium npm fonts-dejavu-core >/dev/null 2>&1; } || \
	  echo "CHROMIUM OR NPM IS MISSING: nothing will be tried in a browser (apt-get install chromium npm)"
	@test -d $(VENV)/axe/node_modules/axe-core || npm install --silent --prefix $(VENV)/axe axe-core@4 >/dev/null 2>&1 || \
	  echo "AXE-CORE IS MISSING: nothing will be tried in a browser (npm install axe-core)"

soak: $(STAMP) servers browser
	$(BIN)/python -m pytest -m soak -s

bench: $(STAMP)
	$(BIN)/python benchmarks/run.py

# The weights by which requests in English are judged, from tests/speech/worlds: about a quarter of an hour.
train: $(STAMP)
	$(BIN)/python -m tests.speech.training

reference: $(STAMP)
	$(BIN)/whenvoca words --page > docs/language.md

screenshots: $(STAMP)
	bash docs/screenshots.sh

# What was tested is what a fresh machine gets.
$(STAMP): pyproject.toml constraints.txt
	@test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	@$(BIN)/python -m pip install -q --disable-pip-version-check -c constraints.txt "pip>=25.1"
	@$(BIN)/python -m pip install -q --disable-pip-version-check -c constraints.txt -e ".[pictures,server,chat,web,mail]" --group dev
	@touch $@

lock: $(STAMP)
	$(BIN)/python -m pip freeze --exclude-editable | grep -v '^whenvoca' > constraints.txt

clean:
	rm -rf $(VENV) demo .pytest_cache .mypy_cache .ruff_cache .hypothesis
