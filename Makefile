SHELL := /bin/bash
BIN := bin/ubiquon

.PHONY: demo test soak build console kit examples bench bench-quick lint pictures packages browser conformance

# Everything that a fresh Debian machine with Go and Node lacks is installed by
# the targets that need it.

demo: packages build
	$(BIN) demo $(if $(NODES),--nodes $(NODES)) $(DEMO)

build: console kit
	go build -o $(BIN) ./cmd/ubiquon

console: console/dist/index.html

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-audit --no-fund
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json console/index.html console/vite.config.ts $(shell find console/src console/public kit/lines -type f)
	cd console && npx --no-install vite build

kit: kit/dist/index.js

# The package that front ends install, with the compiler of the console.
kit/dist/index.js: console/node_modules/.package-lock.json kit/build kit/package.json kit/tsconfig.json \
		internal/core/generate/reader.ts $(shell find kit/src -type f ! -name reader.gen.ts)
	kit/build

# The server of PostgreSQL and the tools that make pictures, from Debian's packages.
packages:
	@ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || command -v postgres >/dev/null || tools/install postgresql
	@command -v vips >/dev/null || tools/install libvips-tools
	@command -v git >/dev/null || tools/install git

# Chromium, for the tests of the console.
browser:
	@command -v chromium >/dev/null || tools/install chromium

lint: console
	@test -z "$$(go tool gofumpt -l $$(git ls-files '*.go'))" || \
		{ echo "go tool gofumpt -w these:"; go tool gofumpt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go tool staticcheck ./...
	go run ./tools/limits
	tools/console-types/run --check
	cd console && npx --no-install tsc --noEmit && npx --no-install oxlint src --deny-warnings

# Collecting garbage less often saves a tenth of the processor time, and memory is not what bounds the tests.
test: packages browser build lint
	GOGC=400 go test -timeout 30m ./...

# The long form of what is tried for seconds in the tests: SOAK is how long nodes meet
# faults, FUZZ how long each parser gets odd input; the oracle goes on for ten times as
# many changes, and every route gets 2,000 mutated requests.
SOAK ?= 20m
FUZZ ?= 30s

soak: packages console
	go test ./internal/cli -run TestNoOlderAnswerUnderFaults -fault.for $(SOAK) -timeout 3h -v
	go test ./internal/environment -run TestALargeTree -below 10000 -timeout 1h -v
	go test ./internal/environment -run TestTheOracle -oracle.changes 25000 -timeout 3h -v
	go test ./internal/environment -run TestMutatedRequests -mutations 2000 -timeout 1h
	tools/fuzz $(FUZZ)

# The example sites, installed and run against a demo: the larger one takes 340 MB of npm packages.
examples: packages browser build
	go test ./internal/cli -run 'TestTheStaticExample|TestTheServerExample' -examples -timeout 30m -v

bench: packages build
	@command -v wrk >/dev/null || tools/install wrk
	go run ./bench

# What there are goals for, in under three minutes, with a verdict for each; HISTORY=docs/performance/history.csv
# adds the figures to the history.
bench-quick: packages build
	@command -v wrk >/dev/null || tools/install wrk
	go run ./bench $(if $(HISTORY),-history $(HISTORY)) quick

# Other people's validators, from npm, against a demo of its own.
conformance: packages build
	tools/conformance/run

# Pictures of the console of a running demo, for the documentation.
pictures: browser
	go run ./tools/pictures
