# What can be asked for: demo, clock, test, check, build, bench, screenshots, setup, clean.
SHELL := /bin/bash
export CGO_ENABLED := 0
DIR ?= .demo
LENGTH ?= 30m
LIFE ?= 5m
REPORT ?= $(DIR)-clock

.PHONY: demo clock test check build console generate setup setup-test bench screenshots clean fuzz

demo: setup build                ## the demo estate; DIR=.demo-2 for a second one, ARGS=--once to end after the survey
	@bin/demo --dir $(DIR) $(ARGS)

clock: setup build               ## certificates of five minutes for half an hour, calm and then disturbed; LENGTH=, LIFE=, REPORT=docs for the figures
	@bin/demo --dir $(DIR)-clock --clock $(LENGTH) --life $(LIFE) --report $(REPORT)/clock-calm.json
	@bin/demo --dir $(DIR)-clock --clock $(LENGTH) --life $(LIFE) --report $(REPORT)/clock-disturbed.json --disturb

setup:
	@scripts/setup demo

setup-test:
	@scripts/setup test

build: console
	@echo "Building the program."
	@mkdir -p bin
	@go build -trimpath -o bin/insegna ./cmd/insegna
	@go build -trimpath -o bin/demo ./demo/run

# The console is built again only when one of its sources changed.
CONSOLE := $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/vite.config.ts console/package-lock.json
console: internal/httpapi/dist/index.html
internal/httpapi/dist/index.html: $(CONSOLE)
	@echo "Building the console."
	@cd console && { cmp -s package-lock.json node_modules/.lock-installed || { npm ci --silent && cp package-lock.json node_modules/.lock-installed; } }
	@cd console && npx --no-install tsc -p . && npx --no-install vite build --logLevel warn

generate:                        ## server, client and console types from api/openapi.yaml
	go generate ./client ./internal/httpapi/contract
	cd console && npm run types

check: build                     ## format, vet, lint and the quick tests
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo "not formatted: run gofmt -w on these"; exit 1; }
	go vet ./...
	go tool -modfile=tools.mod staticcheck $$(go list ./... | grep -v -e /client$$ -e /contract$$)
	cd console && npx --no-install eslint .
	go test -short ./internal/core/... ./internal/look/... ./internal/cli/...

# Where much is done side by side, the race detector looks on; not where one thing is done
# and killed a hundred times over, which is tested without it.
RACED := service httpapi install/files look work
KILLED := ^(TestNewEverywhereOrOldEverywhere|TestNewOrOldOn.*|TestMendedOrOld|TestDroppedOverSSH)$$
test: setup-test build           ## everything
	go vet ./...
	cd console && npx --no-install eslint .
	@e=0; INSEGNA_KILLED='$(KILLED)' go test -timeout 20m $$(go list ./... | grep -v $(patsubst %,-e /internal/%$$,$(filter-out install/files,$(RACED)))) || e=1; \
	CGO_ENABLED=1 go test -race -timeout 30m -skip '$(KILLED)' $(RACED:%=./internal/%) || e=1; exit $$e

fuzz:                            ## each fuzz target for a while
	go test -fuzz FuzzRead -fuzztime 20s ./internal/core/certs
	go test -fuzz FuzzMaterial -fuzzminimizetime 10x -fuzztime 20s ./internal/core/certs
	go test -fuzz FuzzParse -fuzztime 20s ./internal/core/estate
	go test -fuzz FuzzFlight -fuzztime 20s ./internal/look
	go test -fuzz FuzzParse -fuzztime 20s ./internal/kind/nginx
	go test -fuzz FuzzRead -fuzzminimizetime 10x -fuzztime 20s ./internal/kind/httpd
	go test -fuzz FuzzRead -fuzzminimizetime 10x -fuzztime 20s ./internal/kind/haproxy
	go test -fuzz FuzzServe -fuzzminimizetime 10x -fuzztime 20s ./internal/acme/server
	go test -fuzz FuzzReplies -fuzzminimizetime 10x -fuzztime 20s ./internal/acme

bench: setup-test build          ## the figures of docs/performance.md
	go test ./bench -run '^$$' -bench Figures -benchtime 1x -timeout 60m -out ../docs/performance.md

screenshots: setup-test build    ## docs/screenshots from a demo of its own
	go run ./demo/shots

clean:                           ## everything that was built or written, but no packages
	rm -rf bin .demo .demo-* console/node_modules internal/httpapi/dist
	mkdir -p internal/httpapi/dist && touch internal/httpapi/dist/.keep
