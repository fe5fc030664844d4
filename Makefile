# What is done often. `make` lists it.
GO ?= go
FUZZTIME ?= 20s
BENCHTIME ?= 1s
DIST ?= dist
PLATFORMS ?= linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64 windows/arm64

.PHONY: help build test race lint fuzz bench cover house man screenshots cross dist clean

help: ## list the targets
	@grep -hE '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

build: ## build the program, static, as ./anagram
	CGO_ENABLED=0 $(GO) build -trimpath -buildvcs=auto -o anagram ./cmd/anagram

test: ## run all tests; ANAGRAM_TEST_FULL=1 does what is long by nature in full
	$(GO) test ./...

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
