# What is done often. `make` lists it.
GO ?= go
FUZZTIME ?= 20s
BENCHTIME ?= 1s
DIST ?= dist
PLATFORMS ?= linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64 windows/arm64

.PHONY: help build test long race lint fuzz bench cover house man screenshots cross dist clean

help: ## list the targets
	@grep -hE '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

build: ## build the program, static, as ./anagram
	CGO_ENABLED=0 $(GO) build -trimpath -buildvcs=auto -o anagram ./cmd/anagram

test: ## run the tests that are short
	$(GO) test ./...

long: ## run what is long by nature as well, and in full: volume, servers of its own, browser, office program, node, minutes of fuzzing
	@tools/servers
	@tools/others chromium soffice ssh-keygen pgbouncer rsync galera node npm
	npm ci --prefix test/foreign --ignore-scripts --no-audit --no-fund --silent
	ANAGRAM_TEST_REQUIRE_SERVERS=1 ANAGRAM_TEST_LONG=1 ANAGRAM_TEST_BUILT=1 $(GO) test -timeout 60m ./...
	cd test/browser && ANAGRAM_TEST_REQUIRE_SERVERS=1 $(GO) test ./...
	@$(MAKE) --no-print-directory race
	@tools/fuzz 1m

race: ## run the tests of core, files, store and flow for races, in another order
	$(GO) test -race -shuffle=on ./internal/core/... ./internal/files/... ./internal/store/... ./internal/flow/...

lint: ## vet and lint
	$(GO) vet ./...
	golangci-lint run --timeout 10m

fuzz: ## fuzz each target for FUZZTIME
	@tools/fuzz $(FUZZTIME)

bench: ## measure the hot paths
	$(GO) test -run '^$$' -bench . -benchtime $(BENCHTIME) -benchmem ./internal/...

cover: ## hold core, files and store to their floor, and the tests to their share
	@tools/floors

house: ## draw docs/house.svg from the real imports
	$(GO) run ./tools/house > docs/house.svg

man: ## write a manual page for every command into DIST/man
	$(GO) run ./tools/man $(DIST)/man

screenshots: ## draw the pictures of docs/screenshots from the demo data
	@tools/screenshots

cross: ## build for every platform, to see that it can be
	@for p in $(PLATFORMS); do echo "$$p" && \
	  CGO_ENABLED=0 GOOS=$${p%/*} GOARCH=$${p#*/} $(GO) build -gcflags=all="-N -l" -o /dev/null ./cmd/anagram || exit 1; done

dist: ## make an archive for every platform in DIST, with checksums
	@tools/dist $(DIST) $(PLATFORMS)

clean: ## remove what was built
	rm -rf anagram $(DIST)
