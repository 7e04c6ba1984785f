# Synaxis. `make help` lists what can be done.
SHELL := /bin/bash
GO ?= go
# One set of flags everywhere, so that nothing is compiled twice.
export CGO_ENABLED := 0
export GOFLAGS := -trimpath
NPM ?= npm
CONSOLE := internal/service/console/dist/index.html
WEB := $(shell find web/src web/public web/index.html web/*.ts web/package-lock.json -type f 2>/dev/null)

.DEFAULT_GOAL := help
.PHONY: peers help build web generate generated test lint gcc race bench demo once screenshots clean chromium fuzz torture everything join-trial rehearse simulate

help: ## list these targets
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 14

build: $(CONSOLE) ## build the four programs into bin/, and the agents that are served to hosts
	$(GO) build -ldflags '-s -w' -o bin/ ./cmd/...
	for arch in amd64 arm64; do GOOS=linux GOARCH=$$arch $(GO) build -ldflags '-s -w' -o bin/agents/linux-$$arch/ ./cmd/synaxis-agent || exit 1; done

web: $(CONSOLE) ## build the console

web/node_modules/.done: web/package-lock.json
	cd web && $(NPM) ci --ignore-scripts --no-audit --no-fund
	touch $@

$(CONSOLE): web/node_modules/.done $(WEB)
	cd web && $(NPM) run build

generate: web/node_modules/.done ## write server, client and types from api/openapi.yaml
	$(GO) tool -modfile=tools/go.mod oapi-codegen -config api/oapi-codegen-server.yaml api/openapi.yaml
	$(GO) tool -modfile=tools/go.mod oapi-codegen -config api/oapi-codegen-client.yaml api/openapi.yaml
	cd web && $(NPM) run generate
	$(GO) run ./cmd/synaxis reference --write docs

generated: generate ## prove that what is generated is up to date
	git diff --exit-code -- internal/contract web/src/api/schema.d.ts docs/reference.md docs/checks.md docs/catalogue.schema.json

lint: web/node_modules/.done ## vet, staticcheck, gofmt; eslint, prettier, and the size of components
	@test -z "$$(gofmt -l cmd internal test examples)" || { gofmt -l cmd internal test examples; exit 1; }
	$(GO) vet ./...
	$(GO) tool -modfile=tools/go.mod staticcheck ./...
	cd web && $(NPM) run lint

chromium: ## install Debian's Chromium when it is missing
	@command -v chromium >/dev/null || command -v google-chrome >/dev/null || \
	if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then apt-get update -qq && apt-get install -y -qq chromium >/dev/null; \
	else echo 'The tests of the console need Chromium. Type: sudo apt-get install -y chromium' >&2; exit 1; fi

PEERS = nginx-light haproxy curl openssl bsdutils python3 perl systemd-journal-remote logrotate xz-utils

peers: test/peers/node_modules/.done ## install the programs of others that the tests talk to, when they are missing
	@if PATH=$$PATH:/usr/sbin:/lib/systemd; command -v nginx && command -v haproxy && command -v curl && command -v openssl && \
		command -v logger && command -v python3 && command -v systemd-journal-remote && command -v logrotate && command -v xz && \
		perl -MSys::Syslog -e 1 2>/dev/null; then :; \
	elif [ "$$(id -u)" = 0 ] && command -v apt-get; then apt-get update -qq && apt-get install -y -qq $(PEERS); \
	else echo 'The tests talk to programs of others. Type: sudo apt-get install -y $(PEERS)' >&2; exit 1; fi >/dev/null

test/peers/node_modules/.done: test/peers/package-lock.json
	cd test/peers && $(NPM) ci --ignore-scripts --no-audit --no-fund
	touch $@

test: chromium peers build lint generated ## everything that must hold
	cd web && $(NPM) test
	$(GO) test -timeout 20m $$($(GO) list ./... | grep -v '^synaxis/test$$')
	SYNAXIS_BIN=$(CURDIR)/bin $(GO) test -timeout 20m -parallel 3 ./test

gcc: ## install a C compiler when it is missing, which the race detector needs
	@command -v gcc >/dev/null || command -v cc >/dev/null || \
	if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then apt-get update -qq && apt-get install -y -qq gcc libc6-dev >/dev/null; \
	else echo 'The race detector needs a C compiler. Type: sudo apt-get install -y gcc libc6-dev' >&2; exit 1; fi

race: gcc $(CONSOLE) ## the Go tests of agent and service under the race detector
	CGO_ENABLED=1 $(GO) test -race -short -timeout 10m ./internal/agent/... ./internal/service/... ./internal/fleetsim/...

rehearse: build ## the demo's fleet tries, rehearses, rolls out and goes back, and prints what it does
	bin/synaxis-demo rehearse

simulate: build ## a fleet of 10,000 hosts goes through all that a rollout may meet; takes half an hour
	bin/synaxis-demo simulate

bench: build ## speeds, as ratios against a baseline of the same run
	$(GO) run ./test/bench
	$(GO) run ./test/bench listeners

demo: build ## run the ferry line until Ctrl-C
	bin/synaxis-demo

once: build ## tell the demo's whole story and end
	bin/synaxis-demo --once

screenshots: chromium $(CONSOLE) ## make the pictures of docs/screenshots anew
	$(GO) run ./test/screenshots docs/screenshots

fuzz: ## fuzz the core and the listeners, ten seconds each
	@for p in $$($(GO) list ./internal/core/... ./internal/agent/listen); do for f in $$($(GO) test -list '^Fuzz' $$p | grep ^Fuzz); do $(GO) test -run '^$$' -fuzz "^$$f$$" -fuzztime 10s -fuzzminimizetime 1s $$p || exit 1; done; done

torture: build ## half an hour of kills and rotations, and power cuts
	SYNAXIS_TORTURE=1 $(GO) test -timeout 30m -run TestPowerCuts -v ./internal/agent/run
	SYNAXIS_BIN=$(CURDIR)/bin SYNAXIS_TORTURE=30m $(GO) test -timeout 60m -run "TestTorture|TestListenersTorture" -v ./test

everything: build ## ten minutes of every input and every way out, each record accounted for in one table
	SYNAXIS_LONG=10m SYNAXIS_BIN=$(CURDIR)/bin $(GO) test -timeout 30m -run TestEverything -v ./test

join-trial: build ## join a host for real: a Debian of its own with systemd (needs root and debootstrap)
	sh test/join/systemd.sh bin

clean: ## remove what was built
	rm -rf bin web/node_modules internal/service/console/dist/assets $(CONSOLE)
