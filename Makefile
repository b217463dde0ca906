# The targets that people use. Each installs what it needs through the ordinary package clients.

CARGO ?= cargo
NPM ?= npm
.DEFAULT_GOAL := help
.PHONY: help setup demo-setup console contract demo build static package test smoke test-vm explore fuzz trial lint bench screenshots audit

help: ## Tell what there is
	@grep -E '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

setup: ## Install Debian packages and the console's packages
	@scripts/setup

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && $(NPM) ci --ignore-scripts --no-audit --no-fund
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json $(shell find console/src console/public -type f) console/index.html console/vite.config.ts
	cd console && $(NPM) run --silent build

console: console/dist/index.html ## Build the console

contract: ## Write the OpenAPI document anew, and the console's types from it
	PONDRIX_UPDATE=1 $(CARGO) test --quiet --package pondrix-server --test openapi --test rights
	cd console && $(NPM) run --silent types

demo-setup:
	@scripts/setup demo

demo: demo-setup console ## Build for a quick start, and start the demo (ARGS="--once" plays the story and ends)
	$(CARGO) build --profile demo --package pondrix
	target/demo/pondrix demo $(ARGS)

build: demo-setup console ## Build the program for use: target/release/pondrix
	$(CARGO) build --release --package pondrix

lint: console ## Formatting, clippy, the console's checks
	$(CARGO) fmt --all --check
	$(CARGO) clippy --workspace --all-targets -- --deny warnings
	cd console && $(NPM) run --silent check

audit: console/node_modules/.package-lock.json ## Look for known faults and unfit licences of libraries, as far as their data is there
	@scripts/audit

# Properties are tested on the same cases each time: what fails here fails again, and what passes passes again.
test: export PROPTEST_RNG_SEED = 20261125
test: export PROPTEST_DISABLE_FAILURE_PERSISTENCE = true
test: setup console lint audit ## Everything that is checked
	cd console && $(NPM) run --silent test
	$(CARGO) test --workspace

# The program is started once in a folder that has nothing else.
static: export RUSTFLAGS = -C target-feature=+crt-static
static: demo-setup console ## Build the program as one file that needs no library: target/static/pondrix
	$(CARGO) build --release --package pondrix --target $$(uname -m)-unknown-linux-gnu
	@rm -rf target/static && mkdir -p target/static/root
	@cp target/$$(uname -m)-unknown-linux-gnu/release/pondrix target/static/root/pondrix
	@unshare --map-root-user chroot target/static/root /pondrix --version
	@mv target/static/root/pondrix target/static/pondrix && rmdir target/static/root

package: build ## Build Debian packages: target/package
	@scripts/package

# The unoptimised program of the tests is fast enough for this part.
smoke: setup console ## Test what depends on systemd and control groups on a small emulated Debian system (about 5 minutes)
	$(CARGO) test --workspace --no-run
	PROGRAM=target/debug/pondrix scripts/vm/test smoke

test-vm: setup build ## Test on an emulated Debian system with systemd and control groups of version 2 (PARTS='"demo as op"' for some of it; an hour or more)
	$(CARGO) test --workspace --no-run
	scripts/vm/test $(PARTS)

MINUTES ?= 10
explore: ## Test properties and simulations on new cases (MINUTES=10); what is found becomes a plain test
	@end=$$(($$(date +%s) + 60 * $(MINUTES))); rounds=0; \
	while [ $$(date +%s) -lt $$end ]; do \
	    from=$$(od -An -N4 -tu4 /dev/urandom | tr -d ' '); \
	    PONDRIX_SEEDS=$$from..$$((from + 500)) $(CARGO) test --quiet --workspace --lib || exit 1; \
	    PONDRIX_SEEDS=$$from $(CARGO) test --quiet --package pondrix-sandbox --test sandbox at_random || exit 1; \
	    rounds=$$((rounds + 1)); \
	done; \
	echo "$$rounds rounds, nothing found"

fuzz: ## Feed damaged recipes, ignore files, layers, documents and package databases to what reads them (MINUTES=10 each)
	PONDRIX_FUZZ_SECONDS=$$((60 * $(MINUTES))) PONDRIX_FUZZ_SEED=$$(od -An -N4 -tu4 /dev/urandom | tr -d ' ') \
	$(CARGO) test --package pondrix-image --test fuzz -- --nocapture

KILLS ?= 1000
trial: setup console ## Kill server and runner at random moments while the demo's projects run (KILLS=1000)
	PONDRIX_KILLS=$(KILLS) $(CARGO) test --package pondrix --test e2e -- --nocapture trial::

bench: setup console ## Compare with the bare cost of the same work (target/bench/summary.json; ARGS="runs images many load logs soak watch age" for some of it)
	$(CARGO) bench --quiet --package pondrix --bench ratios -- $(ARGS)

screenshots: setup console ## Take the pictures of docs/screenshots from the demo's data anew
	scripts/screenshots
