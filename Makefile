# Everything here installs what is missing on a Debian machine with Go and Node.
SHELL := /bin/bash
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
VERSION := $(shell git describe --always --dirty=-changed 2>/dev/null)
CONSOLE := $(shell find console/src console/public console/index.html console/*.json console/*.ts -type f 2>/dev/null | grep -v schema.gen.ts) internal/api/openapi.yaml

.PHONY: help build demo example test check audit fuzz chaos attack patience bench bench-core screenshots sheets FORCE
.PHONY: need-postgres need-pooler need-chromium need-terminal need-office
help: ## what can be made
	@grep -hE '^[a-z-]+:.*## ' Makefile | sed -E 's/:.*## /\t/' | expand -t 12

build: bin/pigeon ## build bin/pigeon with the console in it

bin/pigeon: console/dist/index.html FORCE
	go build -ldflags "-X calmpigeon.example/internal/buildinfo.described=$(VERSION)" -o $@ ./cmd/pigeon

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE)
	cd console && npm run --silent build

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-fund --no-audit --loglevel=error && touch node_modules/.package-lock.json

need-postgres:
	@ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || { \
	  echo "Installing PostgreSQL"; \
	  $(SUDO) apt-get update -qq && $(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends postgresql >/dev/null; }

need-pooler:
	@command -v pgbouncer >/dev/null || [ -x /usr/sbin/pgbouncer ] || { \
	  echo "Installing PgBouncer"; \
	  $(SUDO) apt-get update -qq && $(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends pgbouncer >/dev/null; }

need-chromium:
	@command -v chromium >/dev/null || { \
	  echo "Installing Chromium"; \
	  $(SUDO) apt-get update -qq && $(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium >/dev/null; }

need-terminal:
	@command -v Xvfb xterm convert >/dev/null && fc-list | grep -q Devanagari || { \
	  echo "Installing a terminal, a screen and fonts"; \
	  $(SUDO) apt-get update -qq && $(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends \
	    xvfb xterm imagemagick fonts-dejavu-core fonts-noto-core fonts-noto-color-emoji fontconfig >/dev/null; }

need-office:
	@command -v soffice >/dev/null || { \
	  echo "Installing a spreadsheet program"; \
	  $(SUDO) apt-get update -qq && $(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends libreoffice-calc >/dev/null; }

demo: build need-postgres ## start everything with demo data, and stay up
	@exec bin/pigeon demo

example: build need-postgres ## play the whole scenario in a fresh place and check it
	bin/pigeon demo --example

test: build need-postgres need-pooler need-chromium ## run all tests
	go test ./... -count=1 -parallel 4 -timeout 20m

sheets: build need-postgres need-office ## hold lists and results against a spreadsheet program, in several locales
	go test ./e2e ./internal/core/sheet -run OfAnOfficeProgram -count=1 -v

check: build audit ## formatting, vet, staticcheck, weaknesses, types, the description of the API
	@bad=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$bad" ] || { echo "not formatted: $$bad"; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd console && npx tsc --noEmit && npm run --silent lint-api

audit: ## look for weaknesses; what is excepted, and why, stands in audit/main.go
	go run ./audit

screenshots: build need-postgres need-chromium need-terminal ## take the pictures of docs/screenshots anew; look at each
	go run ./pictures

FUZZTIME ?= 1m
fuzz: build need-postgres ## run every fuzz test for FUZZTIME, one after the other
	@for package in $$(go list ./internal/...); do \
	  for name in $$(go test -list '^Fuzz' $$package | grep '^Fuzz'); do \
	    echo "$$package $$name"; \
	    go test $$package -run '^$$' -fuzz "^$$name$$" -fuzztime $(FUZZTIME) || exit 1; \
	  done; done

FAULTS ?= 1000
TIMES ?= 5
CHAOS := Killed|Frozen|AreCut|Rolling|Restored|LostCommits|Stopping|MonthTurns|Restarts|StartedAgain|ComesBack|Doubt
chaos: build need-postgres need-pooler ## FAULTS faults under load, with a ledger; then the tests of faults TIMES over, with the race detector
	FAULTS=$(FAULTS) go test ./e2e -run FaultsOfEveryKind -count=1 -v -timeout 120m
	FAULTS=1 go test -race ./e2e -run '$(CHAOS)|Failover|BaseBackup|Pooler' -count=$(TIMES) -timeout 60m

attack: build need-postgres ## every attack that was seen, as large as it was, against a service under a limit of memory and files
	ATTACK=full go test ./e2e -run 'HonestAreServed|NothingOneSends|ListsCostAKnown|WhatIsNoText|LogsHold' -count=1 -v -timeout 60m

patience: build need-postgres need-pooler need-chromium ## run all tests beside two processes that take a core each
	@trap 'kill $$(jobs -p) 2>/dev/null' EXIT; \
	  for n in 1 2; do sh -c 'while :; do :; done' & done; \
	  go test ./... -count=1 -parallel 4 -timeout 40m

FIGURE ?=
bench: build need-postgres ## print measured figures; FIGURE=name for one
	go run ./bench -figure '$(FIGURE)'

bench-core: build need-postgres need-chromium ## what the core's own benchmarks and the writing box say
	go test -run '^$$' -bench . -benchmem ./internal/core/... ./internal/explain
	go test -run '^$$' -bench WritingBox -benchtime 300x ./e2e
