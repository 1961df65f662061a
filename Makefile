# Kambrel. 'make help' lists the targets.
SHELL := /bin/sh
.DEFAULT_GOAL := help
GOSOURCES := $(shell find . -name '*.go' -not -path './web/node_modules/*' -not -path './var/*' 2>/dev/null) go.mod go.sum
SQL := $(wildcard store/migrations/*.sql)
APISOURCES := go.mod go.sum $(wildcard wire/*.go api/*.go core/*/*.go)
WEBSOURCES := $(shell find web/src web/public -type f 2>/dev/null) $(wildcard web/*.json web/*.ts web/index.html)

.PHONY: help build demo test lint bench screenshots packages clean

help: ## list the targets
	@grep -hE '^[a-z]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

build: bin/kambrel bin/kambrel-standin ## build the console and both programs into bin/

bin/kambrel: $(GOSOURCES) $(SQL) web/dist/index.html lab/prepare_reader.py lab/grant.py
	go build -trimpath -o bin/kambrel ./cmd/kambrel

bin/kambrel-standin: $(GOSOURCES)
	go build -trimpath -o bin/kambrel-standin ./cmd/kambrel-standin

web/node_modules/.package-lock.json: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

# The console's types come from the OpenAPI document, which the service writes
# by its Go types; the file changes only when they do.
web/src/api/schema.d.ts: web/.schema ;
web/.schema: web/node_modules/.package-lock.json $(APISOURCES)
	go run ./cmd/kambrel openapi > web/openapi.json
	@cd web && node_modules/.bin/openapi-typescript openapi.json -o schema.new.d.ts > /dev/null
	@cd web && { cmp -s schema.new.d.ts src/api/schema.d.ts && rm schema.new.d.ts || mv schema.new.d.ts src/api/schema.d.ts; } && rm openapi.json && touch .schema

web/dist/index.html: web/node_modules/.package-lock.json web/src/api/schema.d.ts $(WEBSOURCES)
	cd web && npm run --silent build

packages: ## install the Debian packages that are missing
	@lab/install.sh

lab/othercloud/node_modules/.package-lock.json: lab/othercloud/package.json lab/othercloud/package-lock.json
	cd lab/othercloud && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

demo: packages build ## start everything on loopback and sync made-up people
	bin/kambrel demo $(ARGS)

# Three at once, since much of a test is waiting for time-outs. Never from the
# cache: the programs under test are no part of what go caches by.
test: packages build lab/othercloud/node_modules/.package-lock.json ## run all tests against real servers, with the race detector
	cd web && npm run --silent test
	go test -race -count=1 -parallel 3 -timeout 20m ./...

lint: web/dist/index.html ## gofmt, go vet, staticcheck; eslint, vue-tsc
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo 'run gofmt -w on these files'; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd web && npm run --silent lint && npm run --silent types

bench: packages build ## measure the targets and write docs/performance.md
	go run ./bench $(ARGS)

screenshots: packages build ## take the pictures in docs/screenshots
	go run ./e2e/screenshots

clean: ## delete what was built
	rm -rf bin web/dist/assets web/dist/index.html web/.schema web/src/api/schema.d.ts
