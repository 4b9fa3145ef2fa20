# Two commands do everything on a fresh Debian machine: make demo and make test.
SHELL := /bin/bash
.DEFAULT_GOAL := help
.PHONY: help install build demo demo-reset dev test test-days lint bench types sql pictures fuzz fuzz-answers soak clean

GO_FILES := $(shell find cmd core server agent instrument standin demo web \( -name '*.go' -o -name '*.sql' -o -name '*.ttf' -o -name '*.json' \) -not -path '*/node_modules/*' 2>/dev/null)
WEB_FILES := $(shell find web/src web/public web/scripts web/index.html web/vite.config.ts web/package.json -type f 2>/dev/null)
VERSION := $(shell git describe --always --dirty 2>/dev/null || echo development)
STATICCHECK := honnef.co/go/tools/cmd/staticcheck@v0.8.2

help: ## say what can be made
	@grep -E '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

install: .run/installed ## install what is missing: Debian packages, npm packages, Go modules

.run/installed: scripts/install.sh
	@mkdir -p .run
	@bash scripts/install.sh
	@touch $@

web/node_modules/.installed: web/package.json web/package-lock.json | .run/installed
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

web/dist/index.html: $(WEB_FILES) web/src/api/schema.d.ts web/node_modules/.installed
	cd web && npm run -s build

bin/kestite: $(GO_FILES) go.mod go.sum web/dist/index.html | .run/installed
	go build -trimpath -ldflags '-X kestite/cmd/kestite/cli.Version=$(VERSION)' -o $@ ./cmd/kestite

build: bin/kestite ## build the front end and the one binary, bin/kestite

demo: bin/kestite ## start database, stand-ins, agents and server with the demo data
	@exec ./bin/kestite demo

demo-reset: ## forget the demo's data
	@bash scripts/demo-reset.sh

dev: bin/kestite ## the demo's server, and Vite with reload on port 5173
	@./bin/kestite demo & demo=$$!; trap "kill $$demo; wait $$demo" EXIT; cd web && npm run dev

# What measures on the real clock does not share the machine with what loads it.
ALONE := kestite/instrument kestite/e2e/chaos

test: bin/kestite ## run all tests, the browser's too
	KESTITE_BROWSER=1 go test -timeout 40m $$(go list ./... | grep -vxF $(ALONE:%=-e %))
	KESTITE_CHAOS=2m go test -p 1 $(ALONE)

# Days on which what holds on others is known to fail; server/store/storetest/clock.go says when each is.
DAYS ?= first-of-month end-of-month end-of-year leap-day spring autumn decade

test-days: bin/kestite ## the tests of storage, demo and browser with the one clock moved, day after day (DAYS="spring autumn" for some)
	@for day in $(DAYS); do echo "== $$day"; \
		KESTITE_TEST_CLOCK=$$day KESTITE_BROWSER=1 go test -count=1 -timeout 20m ./server/... ./demo ./agent ./e2e || failed="$$failed $$day"; \
	done; [ -z "$$failed" ] || { echo "failed on:$$failed"; exit 1; }

lint: bin/kestite ## vet, staticcheck, gofmt, tsc, eslint, front-end budget
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go run $(STATICCHECK) ./...
	bash scripts/generated.sh check
	cd web && npm run -s lint && npm run -s budget

bench: bin/kestite ## measure; docs/benchmarks.md says what
	bash scripts/bench.sh

types: ## regenerate the OpenAPI document and the front end's types from the Go types
	go run ./cmd/kestite openapi > server/api/openapi.json.new && mv server/api/openapi.json.new server/api/openapi.json
	cd web && npm run -s types

sql: ## regenerate the Go code of the queries (builds sqlc, some minutes the first time)
	go run github.com/sqlc-dev/sqlc/cmd/sqlc@v1.31.1 generate
	bash scripts/generated.sh sign

pictures: ## take docs/screenshots from a running demo
	go run ./e2e/pictures -out docs/screenshots

fuzz: ## fuzz the core, a minute a target (FUZZTIME=10m for longer)
	bash scripts/fuzz.sh $${FUZZTIME:-1m}

fuzz-answers: ## fuzz the readers of what targets answer, 20 seconds each (FUZZTIME=10m for longer)
	bash scripts/fuzz.sh $${FUZZTIME:-20s} 2 instrument agent/wire

soak: bin/kestite ## let servers, agents and database live through harm for an hour (SOAK=10m for another time)
	KESTITE_CHAOS=$${SOAK:-1h} go test ./e2e/chaos -run TestNothingSticks -v -count=1 -timeout 0

clean: ## remove what was built
	rm -rf bin web/dist/assets web/dist/index.html* web/dist/*.svg*
