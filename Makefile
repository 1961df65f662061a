# Kambrel. 'make help' lists the targets.
SHELL := /bin/sh
.DEFAULT_GOAL := help
# One way for all: what lint, build and tests compile is compiled once.
export GOFLAGS := -trimpath $(GOFLAGS)
export CGO_ENABLED := 0
GOSOURCES := $(shell find . -name '*.go' -not -path './console/node_modules/*' -not -path './var/*' 2>/dev/null) go.mod go.sum
SQL := $(wildcard service/store/migrations/*.sql)
APISOURCES := go.mod go.sum $(wildcard protocol/wire/*.go service/api/*.go service/operators/*.go core/*/*.go)
WEBSOURCES := $(shell find console/src console/public -type f 2>/dev/null) $(wildcard console/*.json console/*.ts console/index.html)

.PHONY: help build demo test test-core worlds check lint bench soak screenshots picture needs packages clean

help: ## list the targets
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

build: bin/kambrel bin/kambrel-lab ## build the console and both programs into bin/

bin/kambrel: $(GOSOURCES) $(SQL) console/dist/index.html 
	go build -o bin/kambrel ./cmd/kambrel

bin/kambrel-lab: $(GOSOURCES) $(wildcard lab/servers/*.py)
	go build -o bin/kambrel-lab ./cmd/kambrel-lab

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

# The console's types come from the OpenAPI document, which the service writes
# by its Go types; the file changes only when they do.
console/src/api/schema.d.ts: console/.schema ;
console/.schema: console/node_modules/.package-lock.json $(APISOURCES)
	go run ./cmd/kambrel openapi > console/.openapi.json
	@cd console && node_modules/.bin/openapi-typescript .openapi.json -o schema.new.d.ts > /dev/null
	@cd console && { cmp -s schema.new.d.ts src/api/schema.d.ts && rm schema.new.d.ts || mv schema.new.d.ts src/api/schema.d.ts; } && rm .openapi.json && touch .schema

console/dist/index.html: console/node_modules/.package-lock.json console/src/api/schema.d.ts $(WEBSOURCES)
	cd console && npm run --silent build

needs: ## install the Debian packages that are missing
	@lab/servers/install.sh

lab/othercloud/node_modules/.package-lock.json: lab/othercloud/package.json lab/othercloud/package-lock.json
	cd lab/othercloud && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

demo: needs build ## start everything on loopback and sync made-up people
	bin/kambrel-lab demo $(ARGS)

# Packages with goroutines of their own.
SIDE_BY_SIDE := ./agent/... ./cloud/... ./directory/... ./service/... ./lab/standin/...

# Never from the cache: the programs under test are no part of what go caches by. The race
# detector watches what goes on side by side: the packages above, and in lab/e2e the programs
# of tests that ask for it, not the tests that drive them. Lint has vetted all of it.
test: needs build lab/othercloud/node_modules/.package-lock.json ## run all tests against real servers, with the race detector
	cd console && npm run --silent test
	@status=0; \
	CGO_ENABLED=1 go test -race -vet=off -count=1 -parallel 2 -timeout 20m $(SIDE_BY_SIDE) || status=1; \
	go test -vet=off -count=1 -parallel 2 -timeout 20m $(filter-out $(shell go list $(SIDE_BY_SIDE)),$(shell go list ./...)) || status=1; \
	exit $$status

lint: console/dist/index.html ## gofmt, go vet, staticcheck; Prettier, eslint, vue-tsc
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo 'run gofmt -w on these files'; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd console && npm run --silent lint && npm run --silent types

test-core: ## run the tests of the pure core alone, within a minute
	go test -count=1 -timeout 60s ./core/... ./lab/house

worlds: needs ## make 200 random worlds, in which every way to a decision must come to the same
	go test -count=1 -v -run EveryWay ./service

check: ## what CI runs: lint, then all tests
	$(MAKE) lint
	$(MAKE) test

soak: needs build ## an hour of random edits and faults; ARGS='-for 10m -seed 3' for others
	CGO_ENABLED=1 go test -race -count=1 -timeout 0 -v -run Soak ./lab/e2e/soak -args -for 1h -seed $$(date +%s) $(ARGS)

picture: ## draw the rooms in docs/architecture.md from the real imports
	go run ./lab/house/draw

bench: needs build ## measure the targets and write docs/performance.md
	go run ./lab/bench $(ARGS)

screenshots: needs build ## take the pictures in docs/screenshots
	go run ./lab/screenshots

packages: console/dist/index.html ## build .deb packages of service and agent, and the agent for Windows, into var/packages
	@packaging/build.sh

clean: ## delete what was built
	rm -rf bin console/dist/assets console/dist/index.html console/.schema console/src/api/schema.d.ts
