# `make demo` and `make test` set up what a fresh machine lacks, then do what they say.
CARGO ?= cargo
NPM ?= npm
CONSOLE = console/dist/index.html
# Always the whole workspace: one set of features, so that no dependency is built twice.
BUILD = $(CARGO) build --workspace --bins

.PHONY: build demo test bench hands chaos live fuzz-api mutants check check-console check-format setup console reference screenshots clean

build: setup $(CONSOLE)
	$(BUILD) --release

# The unoptimised build is ready in half the time and shares the libraries that the tests have built.
demo: setup $(CONSOLE)
	$(BUILD)
	./target/debug/arvok demo --data target/demo

# One red test hides no other. Clippy lints while it compiles what is tested, so that nothing is compiled twice: it stands in
# the compiler's place, and is told as `cargo clippy` tells it that a warning is an error.
test: export RUSTC_WORKSPACE_WRAPPER = clippy-driver
test: export CLIPPY_ARGS = --deny__CLIPPY_HACKERY__warnings
test: setup check-console check-format
	$(CARGO) test --workspace --no-fail-fast

# The same without the tests.
check: setup check-console check-format
	$(CARGO) clippy --workspace --all-targets -- --deny warnings

check-console: setup $(CONSOLE)
	cd console && $(NPM) run --silent check && $(NPM) run --silent test

check-format:
	$(CARGO) fmt --all --check

# All of it, or some: make bench PARTS="intake latency".
bench: build
	./target/release/arvok-bench $(PARTS)

# Calls against peers that are too heavy for `make test`: hypervisors whose guests run, and move between two of them.
hands: setup
	@tools/setup --qemu
	$(CARGO) test --workspace --test calls -- --nocapture libvirt::

# Whatever is killed, cut and frozen: writes target/chaos/summary.json. `make test` has a short one.
ROUNDS ?= 200
ALERTS ?= 100000
SECONDS_AT_MOST ?= 3600
ROLLS ?= 10
RATE ?= 200
chaos: setup $(CONSOLE)
	CHAOS_ROUNDS=$(ROUNDS) CHAOS_ALERTS=$(ALERTS) CHAOS_SECONDS=$(SECONDS_AT_MOST) CHAOS_ROLLS=$(ROLLS) CHAOS_RATE=$(RATE) \
		$(CARGO) test --workspace --test journey -- --nocapture chaos:: failover::

# How the console's views keep pace with 200 alerts a second, on a machine that does nothing else.
LIVE_SECONDS ?= 120
live: setup $(CONSOLE)
	LIVE_SECONDS=$(LIVE_SECONDS) $(CARGO) test --workspace --test journey -- --nocapture --ignored console_live

# Asks the API everything that its description allows, and more.
fuzz-api: setup $(CONSOLE)
	$(BUILD)
	tools/fuzz-api

# Changes the heart in small ways and sees whether a test notices: all of it, or a sample, make mutants SAMPLE=0/4. What
# cannot matter stands in .cargo/mutants.toml.
SAMPLE ?= 0/1
mutants: setup
	@command -v cargo-mutants >/dev/null || $(CARGO) install --quiet --locked cargo-mutants
	$(CARGO) mutants --package arvok-core --file 'crates/core/src/settle/**' --file 'crates/core/src/job/**' \
		--file 'crates/core/src/matcher/**' --file 'crates/core/src/alarm/**' \
		--shard $(SAMPLE) --sharding round-robin --baseline skip --timeout 45 --output target -- --lib

setup:
	@tools/setup

console: $(CONSOLE)

$(CONSOLE): console/package-lock.json console/index.html console/vite.config.ts \
		$(shell find console/src console/public -type f)
	@test -d console/node_modules || tools/setup
	cd console && $(NPM) run --silent build

# Generated pages: the descriptions of the API and of the documents, and the console's types.
reference: setup
	mkdir -p docs/reference console/dist
	$(BUILD)
	./target/debug/arvok schema api > docs/reference/openapi.json
	for kind in source rule runbook step connector connection subscriber contact calendar group guard plan; do ./target/debug/arvok schema $$kind > docs/reference/$$kind.schema.json || exit 1; done
	./target/debug/arvok config list --page > docs/reference/settings.md
	cd console && $(NPM) run --silent types

screenshots: setup $(CONSOLE)
	$(CARGO) test --workspace --test journey -- --ignored screenshots

clean:
	$(CARGO) clean
	rm -rf console/dist console/node_modules
