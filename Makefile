# Everything sets itself up: a fresh Debian machine with Go, Node and make is enough.
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
# When the Go binding was last changed, which names the version that the service hands out.
GO_TIME := $(shell TZ=UTC git log -1 --format=%cd --date=format-local:%Y%m%d%H%M%S -- bindings/go 2>/dev/null)
GO_FILES := $(shell find . -name '*.go' -not -path './console/node_modules/*') $(wildcard store/pg/*/*.sql) go.mod go.sum
CONSOLE_FILES := $(shell find console/src console/public -type f 2>/dev/null) $(wildcard console/*.json console/*.ts console/*.html)
# How all is compiled, tests too: once, wherever the checkout lies (read by the scripts of .ci as well).
include .ci/flags
export GOFLAGS CGO_ENABLED
# Flags that make no difference to a build but for what it is stamped with.
BUILD := go build -buildvcs=false -ldflags "-s -w -X main.version=$(VERSION) -X main.goTime=$(GO_TIME)"

# What a part of the tests took is said at its end.
SHELL := /bin/bash
took = TIMEFORMAT="$@ took %R s: %U of a processor, %S of the system"; time

.DEFAULT_GOAL := help
.PHONY: help demo build test test-stories test-rest test-race test-stress check check-code check-console bench load test-bucket release test-release platforms test-platforms test-windows fuzz screenshots openapi clean setup-database setup-browser setup-python setup-compiler setup-bench

help: ## list the targets
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | awk -F ':.*## ' '{printf "  make %-15s %s\n", $$1, $$2}'

demo: setup-database build ## start everything with the harbour's first runs; stays up until interrupted
	@demo/harbour/demo.sh

build: build/kembrel build/harbour build/buildhall build/gpu ## build the binary with the console inside, and the demo's trainer

build/kembrel: $(GO_FILES) console/dist/index.html
	@echo "Building kembrel ..."
	@$(BUILD) -o $@ ./cmd/kembrel

build/harbour: $(GO_FILES)
	@$(BUILD) -o $@ ./demo/harbour

build/buildhall: $(GO_FILES)
	@$(BUILD) -o $@ ./demo/buildhall

build/gpu: $(GO_FILES)
	@$(BUILD) -o $@ ./demo/gpu

console/node_modules/.ready: console/package.json console/package-lock.json console/.npmrc
	@echo "Installing the console's modules ..."
	@cd console && npm ci --no-fund --no-audit --loglevel=error
	@touch $@

console/src/api/schema.d.ts: docs/openapi.json console/node_modules/.ready
	@cd console && npm run --silent types > /dev/null

console/dist/index.html: console/node_modules/.ready console/src/api/schema.d.ts $(CONSOLE_FILES)
	@echo "Building the console ..."
	@cd console && npm run --silent build

setup-database:
	@.ci/install-database

setup-python:
	@.ci/install-python

setup-bench:
	@.ci/install-bench

setup-browser:
	@.ci/install-browser pgrep

setup-compiler:
	@.ci/install-compiler

test: setup-database setup-browser setup-python setup-compiler build check-code ## set up, check and test everything
	@$(MAKE) --no-print-directory --jobs=3 --output-sync=line test-stories test-rest test-race check-console

# three at once, in this order: the stories wait for timers and for each other half of the time
test-stories:
	@$(took) .ci/test ./test/stories

test-rest:
	@$(took) .ci/test-rest

test-race:
	@$(took) .ci/test-race

test-stress: setup-database setup-browser setup-python build ## the whole suite again and again, and the stories on busy cores
	@.ci/test-stress

check: check-code check-console ## formatting, vet, staticcheck, types, lint

check-code: setup-python
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo "run gofmt -w on these"; exit 1; }
	@$(took) .ci/check-code

check-console: console/node_modules/.ready console/src/api/schema.d.ts
	@cd console && $(took) { npm run --silent check && npm run --silent lint && npm run --silent test; }

bench: setup-database setup-bench build ## measure against references in the same run; see bench/results.md
	@.ci/bench

load: setup-database build ## a thousand runs train for two minutes, and everything is read back; see bench/results.md
	@go build -o build/load ./bench/load
	@KEMBREL_BINARY=$$PWD/build/kembrel build/load --runs $(or $(RUNS),1000) --for $(or $(FOR),2m) --out bench/results.md

platforms: console/dist/index.html ## build the binary for other platforms too, which the service hands out as Python wheels
	@mkdir -p build/platforms
	@for p in linux-amd64 linux-arm64 darwin-amd64 darwin-arm64; do echo "Building kembrel for $$p ..."; GOOS=$${p%-*} GOARCH=$${p#*-} $(BUILD) -o build/platforms/kembrel-$$p ./cmd/kembrel || exit 1; done

release: console/dist/index.html ## build what is handed out: binaries, Debian packages, manual, lists of parts, checksums (build/release)
	@release/build

test-release: ## install the release's packages in a root of their own, upgrade and remove them (BEFORE=folder of the release before)
	@release/try

test-windows: build ## try the command for Windows in Wine, against a service here
	@release/try-windows

test-platforms: platforms setup-python ## start what platforms built, where it can be emulated here, and install its wheel
	@.ci/test-platforms

test-bucket: ## test the blob store against a whole S3 server, which is built the first time
	@.ci/test-bucket

fuzz: ## fuzz every parser for a while (FUZZTIME=30s each)
	@.ci/fuzz $(or $(FUZZTIME),30s)

screenshots: setup-database setup-browser build ## make docs/screenshots anew from the demo
	@.ci/screenshots

openapi: ## write docs/openapi.json as the code emits it
	@KEMBREL_WRITE=1 go test ./web -run TestOpenAPIIsCommitted -count=1

clean: ## remove what was built
	@rm -rf build console/dist/assets console/dist/index.html console/node_modules
