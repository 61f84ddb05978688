# Endeixis. “make help” lists what can be made.
# A failure inside a pipe is a failure.
SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
export CGO_ENABLED ?= 1
FUZZTIME ?= 5m
CORE_SOURCES := $(shell find core cmd/endeixis-core internal/consolecore -name '*.go' -not -name '*_test.go') go.mod
CONSOLE_SOURCES := $(shell find console/src console/public -type f) console/index.html console/vite.config.ts console/pack.mjs console/package.json

# The checkers have a go.mod of their own, so that the product's names only what it is made of.
GOLANGCI = go tool -modfile=tools/go.mod golangci-lint

.PHONY: help demo check test race corpus build console bench fuzz fuzz-parsers fuzz-requests lint lint-go lint-console format openapi screenshots clean

help: ## list what can be made
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/^([a-z-]+):.*## /\1\t/' | awk -F '\t' '{ printf "  %-14s %s\n", $$1, $$2 }'

demo: ## start everything with demo data; Ctrl-C stops it
	@scripts/install-missing.sh run
	@$(MAKE) --no-print-directory build
	@exec bin/endeixis-demo

# The licences of what the programs are made of, for “version --licences”.
internal/licences/collected/licences.txt: go.mod go.sum internal/licences/collect/main.go
	go run ./internal/licences/collect > $@.new && mv $@.new $@

build: console/dist/index.html internal/licences/collected/licences.txt ## build the service, the client and the console into bin/
	go build -o bin/ ./cmd/endeixisd ./cmd/endeixis ./cmd/endeixis-world
	go build -o bin/endeixis-demo ./demo

console: console/dist/index.html ## build the console alone

console/node_modules/.made: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

# The console's types are made from the descriptions of the API and of the core in a browser,
# and not kept.
console/src/api/types.ts: console/node_modules/.made docs/openapi.yaml console/core/core.yaml
	cd console && npm run --silent types

console/core/core.yaml: $(CORE_SOURCES) $(wildcard internal/api/*.go)
	@mkdir -p console/core
	go run ./internal/api/describecore > $@.new && mv $@.new $@

# The core for browsers, and what Go brings to run it there.
console/core/core.wasm: $(CORE_SOURCES)
	@mkdir -p console/core
	CGO_ENABLED=0 GOOS=js GOARCH=wasm go build -trimpath -ldflags='-s -w' -o $@ ./cmd/endeixis-core
	@cp "$$(go env GOROOT)/lib/wasm/wasm_exec.js" console/core/

console/dist/index.html: console/node_modules/.made console/src/api/types.ts console/core/core.wasm internal/licences/collected/licences.txt $(CONSOLE_SOURCES)
	cd console && npm run --silent build

openapi: ## write docs/openapi.yaml from the service's own description
	go run ./cmd/endeixisd openapi > docs/openapi.yaml.new && mv docs/openapi.yaml.new docs/openapi.yaml

lint: lint-go lint-console ## check form and types

lint-go: internal/licences/collected/licences.txt
	$(GOLANGCI) run ./...
	@# The core is computation only, and runs in a browser too.
	CGO_ENABLED=0 GOOS=js GOARCH=wasm go build ./core/...
	CGO_ENABLED=0 GOOS=js GOARCH=wasm go vet ./cmd/endeixis-core

lint-console: console/node_modules/.made console/src/api/types.ts
	cd console && npm run --silent lint

format: console/node_modules/.made ## put everything into its form
	$(GOLANGCI) fmt
	cd console && npm run --silent format

check: build lint ## the quick part of the tests: form, types, and each package by itself, without a browser
	cd console && npm run --silent test
	go run ./internal/pgserver/pgrun go test -short -timeout 10m $$(go list ./... | grep -v /test$$)

test: ## install what is missing and run every check and test
	@scripts/install-missing.sh test
	@# What is fetched comes while what is here is looked at.
	@$(MAKE) --no-print-directory -j 2 --output-sync console/node_modules/.made lint-go
	@$(MAKE) --no-print-directory build lint-console
	cd console && npm run --silent test
	@# What runs side by side is run under the race detector alone. The whole product comes by
	@# itself, for browsers do not share two cores well.
	go run ./internal/pgserver/pgrun $(GOTEST) $(UNRACED)
	go run ./internal/pgserver/pgrun $(GOTEST) -parallel 4 ./test
	@$(MAKE) --no-print-directory race
	@$(MAKE) --no-print-directory fuzz-parsers FUZZTIME=2s
	@$(MAKE) --no-print-directory fuzz-requests FUZZTIME=10s

# The linter vets; and nobody debugs what is linked for one run.
GOTEST = go test -vet=off -ldflags='-s -w' -timeout 40m

# Where goroutines share something: reading on all cores, the queue, the keyring in
# memory, what is announced.
RACED = ./core/digest ./core/measure ./core/verify ./internal/batches ./internal/query ./internal/events ./internal/directories ./internal/origins

corpus: ## verify what a distribution's people have signed, fetched with its package manager
	scripts/corpus.sh .corpus
	ENDEIXIS_CORPUS=$(CURDIR)/.corpus go test ./core/openpgp -run '^TestCorpus$$' -count=1 -v

UNRACED = $(filter-out endeixis/test $(patsubst ./%,endeixis/%,$(RACED)),$(shell go list ./...))

race: ## run the tests of what runs side by side under the race detector
	go run ./internal/pgserver/pgrun $(GOTEST) -race $(RACED)

fuzz: fuzz-parsers fuzz-requests ## fuzz every parser, and requests to the API, each for FUZZTIME (5m)

# A parser for each core, by one process: most of a short run is building and starting.
FUZZERS = $(shell grep -rhoE '^func Fuzz[A-Za-z]+' --include='*_test.go' core internal | sed 's/func //' | sort -u)

fuzz-parsers:
	@$(MAKE) --no-print-directory -j $(shell nproc) $(addprefix fuzz/,$(FUZZERS))

# A try that is under way when the time is over is ended by Go with "context deadline
# exceeded", as if it had failed. That is no finding: a finding writes its input down.
fuzz/%:
	@dir=$$(grep -rlE "^func $*\(" --include='*_test.go' core internal | head -1 | xargs dirname); \
		out=$$(go test ./$$dir -run '^$$' -fuzz "^$*$$" -fuzztime $(FUZZTIME) -parallel 1 2>&1) && failed= || failed=1; \
		echo "$* in $$dir: $$(echo "$$out" | grep -vE '^fuzz: elapsed.*\(0/sec\)' | tail -1)"; \
		if [ -n "$$failed" ] && { ! echo "$$out" | grep -q '^ *context deadline exceeded' || echo "$$out" | grep -q 'Failing input'; }; then echo "$$out"; exit 1; fi

# What was found is not made smaller for long: each try is a request.
fuzz-requests:
	go run ./internal/pgserver/pgrun go test ./test -run '^$$' -fuzz '^FuzzRequests$$' -fuzztime $(FUZZTIME) -fuzzminimizetime 2x | grep -vE '^fuzz: elapsed.*\(0/sec\)|baseline' | tail -3

bench: build ## measure against floors, and write docs/benchmarks.md; ONLY=NAME measures one part
	@scripts/install-missing.sh run
	go run ./internal/pgserver/pgrun go run ./test/bench $(if $(ONLY),-only '$(ONLY)')

screenshots: ## make the pictures in docs/screenshots from the demo data
	@scripts/install-missing.sh shots
	@$(MAKE) --no-print-directory build
	go run ./test/screenshots

clean: ## remove what was built and the demo's files
	rm -rf bin .demo console/node_modules console/core console/src/api/types.ts console/src/spot/core-types.ts
	rm -f internal/licences/collected/licences.txt
	find console/dist -mindepth 1 ! -name .keep -delete
