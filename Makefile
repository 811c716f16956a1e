# Agonometer. `make help` lists the targets.
export CGO_ENABLED = 0
# The race detector needs cgo; only test-long uses it.
SHELL := /bin/sh
BIN := bin/agonometer
GO_FILES := $(shell find cmd internal console/*.go demo docs -name '*.go' -o -name '*.sql' -o -name '*.txtar' -o -name '*.patch' -o -name '*.yaml' -o -name '*.md' 2>/dev/null)
CONSOLE_FILES := $(shell find console/src console/public console/index.html console/*.ts console/*.json -type f 2>/dev/null)

.PHONY: help build demo test test-long lint bench screenshots docs need-go need-node need-git need-chromium clean

help: ## list the targets
	@grep -E '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 16

need-go:
	@command -v go >/dev/null || { echo "Go is missing: install Go 1.26 or newer and put its bin folder on the PATH." >&2; exit 1; }
need-git:
	@command -v git >/dev/null || { echo "git is missing. Debian: apt-get install git" >&2; exit 1; }
need-node:
	@command -v node >/dev/null && command -v npm >/dev/null || { echo "Node 20.11 or newer with npm is missing: the console is built with it, and the demo has a Node project. Debian: apt-get install nodejs npm" >&2; exit 1; }
need-chromium:
	@command -v chromium >/dev/null || command -v chromium-browser >/dev/null || { \
	  if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then echo "Installing Chromium for the console's tests ..."; \
	    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq chromium chromium-driver >/dev/null; \
	  else echo "Chromium is missing; the console's tests need it. Debian: apt-get install chromium chromium-driver" >&2; exit 1; fi; }

build: $(BIN) ## build bin/agonometer with the console in it

$(BIN): $(GO_FILES) go.mod go.sum console/dist/index.html | need-go need-git
	go build -trimpath -o $@ ./cmd/agonometer

console/node_modules/.ready: console/package.json console/package-lock.json | need-node
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

console/dist/index.html: $(CONSOLE_FILES) console/node_modules/.ready
	rm -rf console/dist/assets
	cd console && npm run --silent build -- --logLevel warn
	@touch $@

demo: build ## run the contest of Port Averil and serve the console
	$(BIN) demo $(DEMO)

lint: need-go console/node_modules/.ready ## gofmt, go vet, the type checker, the linter
	@bad=$$(gofmt -l cmd internal demo console/*.go docs); [ -z "$$bad" ] || { echo "gofmt would change: $$bad" >&2; exit 1; }
	go vet ./...
	cd console && npm run --silent check && npm run --silent lint

test: need-chromium build lint ## everything that must hold; under ten minutes
	cd console && npm run --silent test
	go test -timeout 20m ./...

test-long: test ## the race detector, a minute of each fuzz target, the whole demo, the whole hostile suite, real steps
	CGO_ENABLED=1 go test -race -timeout 40m ./internal/schedule/... ./internal/store/... ./internal/service/... ./internal/bout/... ./internal/client/...
	go test -run '^$$' -fuzz FuzzDecode -fuzztime 60s ./internal/core/specfile
	for f in ReadGoTest ReadJUnit ReadTAP ReadNumber; do go test -run '^$$' -fuzz "^Fuzz$$f$$" -fuzztime 60s ./internal/core/testlog || exit 1; done
	go test -run '^$$' -fuzz FuzzExamine -fuzztime 60s ./internal/core/answer
	go test -run '^$$' -fuzz FuzzParseTask -fuzztime 60s ./internal/core/task
	for f in Parse MeasureEdits ReadCoverage FindingsOfLinters; do go test -run '^$$' -fuzz "^Fuzz$$f$$" -fuzztime 60s ./internal/core/patch || exit 1; done
	go test -run '^$$' -fuzz FuzzTokens -fuzztime 60s ./internal/core/lex
	go test -run '^$$' -fuzz FuzzReply -fuzztime 60s ./internal/core/wire
	go test -run '^$$' -fuzz FuzzPrices -fuzztime 60s ./internal/core/ledger
	AGONOMETER_LONG=1 go test -timeout 20m -run TestDemo ./internal/cli
	AGONOMETER_LONG=1 go test -timeout 40m -run 'TestHostileContenders|TestKilledAnywhere|TestRealSteps' ./internal/service

bench: build ## the harness's own time, as ratios to plain git; see docs/performance.md
	go test -run '^$$' -bench . -benchtime 5x -timeout 30m ./internal/bout
	go test -run '^$$' -bench 100k -benchtime 5x ./internal/core/testlog
	go test -run '^$$' -bench . -benchtime 30x ./internal/bout/meter
	go test -run '^$$' -bench . ./internal/core/wire ./internal/core/timeline ./internal/core/lex ./internal/core/verdict

docs: need-go console/node_modules/.ready ## write the schemas, the OpenAPI document and the console's types anew
	go run ./internal/docgen
	cd console && npm run --silent types

screenshots: need-chromium build ## take the pictures in docs/screenshots anew
	sh docs/screenshots/take.sh

clean: ## remove what was built
	rm -rf bin console/dist/assets console/dist/index.html console/node_modules
