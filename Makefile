# Kambrel. 'make help' lists the targets.
SHELL := /bin/sh
.DEFAULT_GOAL := help
GOSOURCES := $(shell find . -name '*.go' -not -path './web/node_modules/*' -not -path './var/*' 2>/dev/null) go.mod go.sum
SQL := $(wildcard store/migrations/*.sql)
WEBSOURCES := $(shell find web/src web/public -type f 2>/dev/null) $(wildcard web/*.json web/*.ts web/index.html)

.PHONY: help build demo test lint bench screenshots packages generate clean

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

web/dist/index.html: web/node_modules/.package-lock.json $(WEBSOURCES)
	cd web && npm run --silent build

packages: ## install the Debian packages that are missing
	@lab/install.sh

demo: packages build ## start everything on loopback and sync made-up people
	bin/kambrel demo $(ARGS)

# Three at once, since much of a test is waiting for time-outs. Never from the
# cache: the programs under test are no part of what go caches by.
test: packages build ## run all tests against real servers, with the race detector
	cd web && npm run --silent test
	go test -race -count=1 -parallel 3 -timeout 9m ./...

lint: web/dist/index.html ## gofmt, go vet, staticcheck; eslint, vue-tsc; generated files
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo 'run gofmt -w on these files'; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd web && npm run --silent lint && npm run --silent types
	@go run ./cmd/kambrel openapi > web/openapi.check.json && cd web && npx --no-install openapi-typescript openapi.check.json -o schema.check.d.ts >/dev/null && \
		{ cmp -s schema.check.d.ts src/api/schema.d.ts; status=$$?; rm -f openapi.check.json schema.check.d.ts; [ $$status -eq 0 ] || { echo 'web/src/api/schema.d.ts is stale: run make generate'; exit 1; }; }

generate: web/node_modules/.package-lock.json ## write the console's types anew from the OpenAPI document
	go run ./cmd/kambrel openapi > web/openapi.json
	cd web && npx --no-install openapi-typescript openapi.json -o src/api/schema.d.ts && rm openapi.json

bench: packages build ## measure the targets and write docs/performance.md
	go run ./bench $(ARGS)

screenshots: packages build ## take the pictures in docs/screenshots
	go run ./e2e/screenshots

clean: ## delete what was built
	rm -rf bin web/dist/assets web/dist/index.html
