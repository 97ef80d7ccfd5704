# Nimble Pane: everything is made from here. `make` or `make help` lists the targets.

SHELL   := /bin/bash
VERSION := $(shell cat VERSION)
LDFLAGS := -X main.version=$(VERSION)
GO      := go
SOURCES := $(shell git ls-files '*.go' '*.sql' '*.yaml' 2>/dev/null) go.mod go.sum
CONSOLE := $(shell git ls-files console 2>/dev/null | grep -v dist)

.DEFAULT_GOAL := help

.PHONY: help
help: ## List the targets
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/^([a-z-]+):.*## (.*)/  make \1|\2/' | column -t -s '|'

.PHONY: setup
setup: ## Install what is missing: PostgreSQL, Chromium, Node packages, Go modules
	@./setup.sh
	@$(GO) mod download

.PHONY: demo
demo: setup build ## Start everything with the demo estate; Ctrl-C stops it
	@bin/demo run

.PHONY: setup-real
setup-real: setup ## Install what is missing for real machines: libvirt, QEMU, mmdebstrap
	@./setup.sh real

bin/pane-agent: $(SOURCES) VERSION
	@CGO_ENABLED=0 $(GO) build -trimpath -buildvcs=false -ldflags '-s -w $(LDFLAGS)' -o bin/pane-agent ./cmd/pane-agent

PACKAGE := .state/packages/pane-agent_$(VERSION)_amd64.deb
GUEST   := .state/guest/desk.qcow2

.PHONY: package
package: $(PACKAGE) ## Build pane-agent's Debian package

$(PACKAGE): bin/pane-agent $(shell git ls-files packaging)
	@packaging/deb/build.sh bin/pane-agent $(VERSION) $(PACKAGE).new
	@# The same package keeps its time, so that no guest is built for nothing.
	@if cmp -s $(PACKAGE).new $(PACKAGE); then rm $(PACKAGE).new; else mv $(PACKAGE).new $(PACKAGE); fi

.PHONY: guest
guest: setup-real $(GUEST) ## Build a small Debian desktop host for tests and for make real

$(GUEST): $(PACKAGE) guest/build.sh
	@guest/build.sh $(PACKAGE) $(GUEST)

.PHONY: demo-reset
demo-reset: bin/demo ## Throw the demo's data away, to begin anew
	@bin/demo reset

.PHONY: tour
tour: setup build ## Tell the story of a month's work on a fresh estate
	@bin/demo tour

.PHONY: real
real: setup-real build $(GUEST) ## Tell the story on real machines (QEMU through a private libvirtd), and do each step on one, in an hour
	@bin/demo real --guest $(GUEST)
	@NIMBLEPANE_GUEST=$(abspath $(GUEST)) $(GO) tool gotestsum --format testname -- -count 1 -timeout 40m -run TestStepsOnARealMachine ./platform/libvirt

.PHONY: build
build: bin/nimblepaned bin/pane bin/nimblepane-practice bin/demo ## Build the programs, with the console in the service

bin/nimblepaned bin/pane bin/nimblepane-practice: $(SOURCES) VERSION console/dist/index.html
	@$(GO) build -ldflags '$(LDFLAGS)' -o bin/ ./cmd/nimblepaned ./cmd/pane ./cmd/nimblepane-practice

bin/demo: $(SOURCES)
	@$(GO) build -o bin/demo ./demo

console/dist/index.html: $(CONSOLE) console/node_modules/.package-lock.json
	@cd console && npm run --silent build

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	@cd console && npm ci --no-audit --no-fund --loglevel=error

.PHONY: generate
generate: ## Write what is made from the code: API types of the console, reference pages
	@$(GO) run -ldflags '$(LDFLAGS)' ./cmd/nimblepaned openapi > docs/openapi.json
	@cd console && npx openapi-typescript ../docs/openapi.json -o src/schema.gen.ts >/dev/null
	@$(GO) run ./docs/reference

.PHONY: test
test: setup build lint test-console test-go race-short test-real ## Lint and run all tests

.PHONY: test-go
test-go: build
	@$(GO) tool gotestsum --format pkgname -- -timeout 18m -parallel 6 $$($(GO) list ./... | grep -v /platform/libvirt$$)

# What the race detector is for: all but the programs and what is only drawn.
RACED := ./agent/... ./api ./cli ./client ./core/... ./engine/... ./platform/depot ./platform/journal ./platform/practice/... ./store/...

.PHONY: race
race: setup build ## Run the tests under the race detector, some ten minutes
	@CGO_ENABLED=1 $(GO) tool gotestsum --format pkgname -- -race -timeout 20m $(RACED)

# What of it fits in two minutes: not what plays thousands of rollovers or months of an estate,
# but the test in which many people do everything at once.
.PHONY: race-short
race-short: build
	@CGO_ENABLED=1 $(GO) tool gotestsum --format pkgname -- -race -timeout 10m \
		$$($(GO) list $(RACED) | grep -vE '/(api|cli|core/forecast|engine/rollovers|engine/subjects)$$')
	@CGO_ENABLED=1 $(GO) tool gotestsum --format pkgname -- -race -timeout 10m -run TestACrowdThatDoesEverythingAtOnce ./engine/subjects

# Machines take the processor for themselves, so their tests come by themselves.
.PHONY: test-real
test-real: build ## Run the tests on real machines, where QEMU can run: the libvirt platform, and the story in short
	@if ! ./setup.sh real; then echo "Real machines are not tested: QEMU and libvirt cannot be installed here."; \
	elif ! $(MAKE) --no-print-directory $(GUEST); then echo "The guest for real machines could not be built."; exit 1; \
	else NIMBLEPANE_GUEST=$(abspath $(GUEST)) $(GO) tool gotestsum --format testname -- -short -count 1 -p 1 -parallel 4 -timeout 40m ./platform/libvirt ./internal/e2e/real; fi

.PHONY: test-console
test-console: console/node_modules/.package-lock.json
	@cd console && npm run --silent test

.PHONY: lint
lint: console/dist/index.html ## Check form and soundness of the Go code and the console
	@unformatted=$$($(GO) tool gofumpt -l $$(git ls-files '*.go')); if [ -n "$$unformatted" ]; then echo "not formatted (make fmt): $$unformatted"; exit 1; fi
	@# What stands in a raw string, such as a tag or a statement, is as long as it is.
	@git ls-files '*.go' | xargs awk 'FNR == 1 {raw = 0} {n = gsub(/`/, "`"); held = raw || n; if (n % 2) raw = !raw; \
		gsub(/\t/, "    "); if (!held && length($$0) > 120) {print FILENAME ":" FNR ": longer than 120 columns"; bad = 1}} END {exit bad}'
	@$(GO) vet ./...
	@$(GO) tool staticcheck ./...
	@cd console && npm run --silent lint

.PHONY: fmt
fmt: ## Format the Go code and the console
	@$(GO) tool gofumpt -w $$(git ls-files '*.go')
	@cd console && npm run --silent fmt

FUZZTIME ?= 10m
FUZZED := core/disk:FuzzDetect core/disk:FuzzFormats core/feed:FuzzFeed core/flaw:FuzzList core/flaw:FuzzParse \
	core/pack:FuzzWhatIsCheckedUnpacksWithin core/sheet:FuzzSheet engine/foreign:FuzzPack engine/foreign:FuzzSystem \
	engine/foreign:FuzzTree api:FuzzAPI

.PHONY: fuzz
fuzz: setup ## Have Go's fuzzer make hostile disks, packs, feeds, lists, archives, sheets and requests, ten minutes each
	@for target in $(FUZZED); do echo "== $$target"; \
		$(GO) test ./$${target%:*} -run '^$$' -fuzz "^$${target#*:}$$" -fuzztime $(FUZZTIME) -timeout 30m || exit 1; done

.PHONY: soak
soak: setup build ## Have people, rollovers, kills and broken agents at work for an hour, and see that nothing grows
	@NIMBLEPANE_SOAK=1h $(GO) test ./internal/e2e -run '^TestSoak$$' -v -count 1 -timeout 90m

.PHONY: mutants
mutants: setup ## Change the core in small places, one at a time, and see that its tests notice each
	@$(GO) run ./internal/mutants $${PACKAGES:-./core/...}

.PHONY: bench
bench: setup build ## Measure speed and print a table
	@./setup.sh bench
	@$(GO) run ./bench

.PHONY: screenshots
screenshots: build ## Take the pictures of the documentation from the running demo
	@docs/shots/take.sh

.PHONY: clean
clean: ## Remove what was built
	@rm -rf bin console/dist/* console/node_modules
