# make demo   starts the demo, doing all set-up first
# make test   runs every test
# make package   a Debian package with the console inside, in dist/
.PHONY: demo test build console package packages pictures bench chaos fuzz openapi

SHELL := /bin/bash
GO ?= go
SOURCES := $(shell find web/src web/public web/index.html web/vite.config.ts web/tsconfig.json -type f 2>/dev/null)

demo: postgresql build
	bin/tinbell demo run $(DEMO)

# What people set off at once, and what goes on by itself, is tried with the race detector
# as well.
SHARED := ./internal/duty ./internal/collect/... ./internal/sink ./internal/watch
AT_ONCE := Burst|Racing|Orphaned|AStop|AtOnce|SeenHalf|ChangedOnce|InParts

test: postgresql chromium gcc build
	cd web && npm test
	$(GO) test -vet=all -count=1 -parallel 4 -timeout 20m ./...
	$(GO) test -race -vet=off -count=1 -timeout 15m $(SHARED)
	$(GO) test -race -vet=off -count=1 -timeout 15m -run '$(AT_ONCE)' ./internal/store ./internal/service

build: console
	$(GO) build -o bin/tinbell ./cmd/tinbell

console: web/dist/index.html

web/node_modules/.package-lock.json: web/package-lock.json
	cd web && npm ci --ignore-scripts --no-audit --no-fund

web/dist/index.html: web/node_modules/.package-lock.json web/src/api/schema.d.ts $(SOURCES)
	cd web && npm run build

web/src/api/schema.d.ts: openapi.json web/node_modules/.package-lock.json
	cd web && npm run types

package: console
	GO=$(GO) scripts/package

# The contract, written by the program; run it after changing the API.
openapi:
	$(GO) run ./cmd/tinbell openapi > openapi.json

.PHONY: postgresql chromium gcc
postgresql:
	@scripts/install postgresql

chromium:
	@scripts/install chromium

# The race detector needs a C compiler.
gcc:
	@scripts/install gcc

# The pictures of the documentation, from a demo of their own.
pictures: postgresql chromium build
	scripts/pictures

# Every reader of what others send, a hundred thousand times each.
fuzz:
	GO=$(GO) scripts/fuzz

# Ten minutes of accidents, and what was acknowledged, lost, doubled, delayed.
chaos: postgresql build
	bin/tinbell bench chaos --for 10m

bench: build
	$(GO) test -run '^$$' -bench . ./core/...
	bin/tinbell bench speed
	bin/tinbell bench accuracy
