# Bare `make` lists the targets.
.DEFAULT_GOAL := help
GO ?= go
SHELL := /bin/bash

.PHONY: help build install demo files test torture lint bench clean console types pages

help: ## list the targets
	@grep -E '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed -E 's/^([a-z]+):.*## /\1\t/' | expand -t 10

# The console's sources decide whether it is built anew.
CONSOLE := $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/vite.config.ts console/tsconfig.json console/package-lock.json

console: console/dist/index.html ## build the console into console/dist

console/node_modules/.package-lock.json: console/package-lock.json
	@command -v npm >/dev/null || { echo "npm is missing; install Node.js 20 or newer"; exit 1; }
	@echo "== installing the console's packages"
	@cd console && npm ci --no-fund --no-audit --loglevel=error
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE)
	@echo "== building the console"
	@rm -rf console/dist/assets
	@cd console && npm run --silent build >build.log 2>&1 || { cat build.log; exit 1; }
	@rm -f console/build.log

build: console ## build ./bin/undertide with its console
	@echo "== building ./bin/undertide (the first time takes a few minutes)"
	@$(GO) build -o bin/undertide ./cmd/undertide

PREFIX ?= /usr/local
# Where a package is made, files go below DESTDIR.
TO = $(DESTDIR)$(PREFIX)

install: build ## install undertide, its manual pages and completion below PREFIX (/usr/local)
	@echo "== installing undertide below $(TO)"
	@install -D -m 755 bin/undertide $(TO)/bin/undertide
	@$(GO) run ./cmd/man $(TO)/share/man/man1
	@mkdir -p $(TO)/share/bash-completion/completions $(TO)/share/zsh/site-functions $(TO)/share/fish/vendor_completions.d
	@./bin/undertide completion bash > $(TO)/share/bash-completion/completions/undertide
	@./bin/undertide completion zsh > $(TO)/share/zsh/site-functions/_undertide
	@./bin/undertide completion fish > $(TO)/share/fish/vendor_completions.d/undertide.fish
	@echo "== try: undertide --help, man undertide, man undertide-run"

demo: ## run the harbour: database, broker, streams, service, jobs, console; DEMO_FOR=60s ends it by itself
	@scripts/install.sh server devices
	@$(MAKE) --no-print-directory build
	@echo "== opening Saltmarsh Harbour"
	@exec ./bin/undertide demo $(if $(DEMO_FOR),--for $(DEMO_FOR))

files: build ## make two hours of the harbour's events as files, and run its jobs on them
	@echo "== making two hours of events in harbour/data"
	@$(GO) run ./harbour/make harbour/data
	@echo "== checking the job documents"
	@./bin/undertide check harbour/files/*.yaml
	@echo "== running harbour/files/mean-level.yaml"
	@./bin/undertide run harbour/files/mean-level.yaml
	@echo "== running harbour/files/crane-load.yaml, its first rows as a table"
	@./bin/undertide run harbour/files/crane-load.yaml --out loads=- --format table --lanes 1 | sed -n 1,22p
	@echo "== running the examples that stand in the documents"
	@./bin/undertide rehearse harbour/files/*.yaml --examples
	@echo "== rows are in harbour/data/out; harbour/README.md explains the jobs"

# The tests of three packages run at once on two processors: much of their time is waiting.
# Of these the race detector sees a part (package pace).
PACED := ^(TestRandom.*|TestRespreadRandom|TestWideTurns|TestBounds|TestManyPartitions|TestBuffer|TestDeadKeys|TestPastSessions|TestMemoryFollowsKeys|TestBytesOfSlices|TestFiles|TestStopsAndResumes|TestFaults|TestCopyFaults|TestHostileDocuments|TestEvaluatorsAgree|TestResume)$$

test: console lint ## all tests, with the race detector; what CI runs
	@scripts/install.sh compiler server browser tools
	@cd e2e/peers && npm ci --no-fund --no-audit --loglevel=error
	@echo "== testing the packages, with the race detector"
	@scripts/in-memory.sh $(GO) test -race -tags checks -p 3 -timeout 20m $$($(GO) list ./... | grep -v /e2e)
	@echo "== the long tests in full, without the race detector: 2,000 random jobs against the reference model, a fault at each write, hostile documents"
	@scripts/in-memory.sh $(GO) test -count=1 -timeout 10m -run '$(PACED)' ./run ./checkpoint ./job ./core/expr ./core/engine ./core/step ./harbour
	@echo "== driving the real binary"
	@scripts/in-memory.sh $(GO) test -count=1 -timeout 15m ./e2e # never from the cache, which does not see the binary

torture: build ## the long forms of the tests (some fifty minutes): random jobs, previews, kills
	@scripts/install.sh server
	@echo "== comparing 20,000 random jobs, 12,000 scripts and 10,000 steps by the clock with the reference model"
	@$(GO) test -count=1 -timeout 30m -run 'TestRandomJobs' ./run -args -jobs 20000
	@$(GO) test -count=1 -timeout 30m -run 'TestRandomScripts' ./run -args -jobs 60000
	@$(GO) test -count=1 -timeout 30m -run 'TestRandomRevisions' ./run -args -jobs 100000
	@echo "== the figures of a hundred jobs over a month"
	@$(GO) test -count=1 -timeout 20m -run 'TestMonth' ./store -args -jobs 100
	@echo "== opening the pages of a hundred jobs with a month of figures"
	@$(GO) test -count=1 -timeout 20m -run 'TestMonthOnThePage' ./e2e -args -month 100
	@echo "== walking through starts, faults and stops for five minutes, while sums must add up"
	@$(GO) test -count=1 -timeout 20m -run 'TestSumsAddUp' ./service -args -walk 5m
	@echo "== asking with bodies at random for ten minutes"
	@$(GO) test -count=1 -timeout 20m -run 'TestBodies' ./service -args -bodies 10m
	@echo "== a hundred thousand random histories of nodes and leases"
	@$(GO) test -count=1 -timeout 60m -run 'TestHistories' ./lease -args -histories 100000
	@echo "== killing fifty nodes that carry jobs out, while rows flow"
	@$(GO) test -count=1 -timeout 30m -run 'TestNodesFail' ./e2e -args -node-kills 50 -node-cut 20s
	@echo "== killing thirty nodes under a spread job, and measuring one over eight million events"
	@$(GO) test -count=1 -timeout 30m -run 'TestSpreadFails' ./e2e -args -node-kills 30 -node-cut 20s
	@$(GO) test -count=1 -timeout 30m -run 'TestSpreadSpeed' ./e2e -args -spread-rows 8000000
	@$(GO) test -count=1 -timeout 60m -run 'TestSpreadRandom|TestRespreadRandom' ./run -args -rounds 200
	@echo "== killing runs two hundred times, each going on with other lanes"
	@$(GO) test -count=20 -timeout 30m -run 'TestKilledTenTimes' ./e2e
	@echo "== two hundred times each: killing runs, services, the broker and PostgreSQL, and letting runs stand still, while rows go into files, topics and tables"
	@$(GO) test -count=1 -timeout 60m -run 'TestOnceKilled' ./e2e -args -kills 200
	@echo "== killing the service and PostgreSQL two hundred times under 20 jobs"
	@$(GO) test -count=1 -timeout 30m -run 'TestKills' ./e2e -args -rounds 200

lint: console/node_modules/.package-lock.json ## formatting, go vet, pinned dependencies, the console's sources
	@echo "== checking format, vet and go.mod"
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo "run: gofmt -w ."; exit 1; }
	@$(GO) vet ./...
	@$(GO) vet -tags checks ./...
	@$(GO) mod verify >/dev/null || { echo "run: go mod download"; exit 1; }
	@echo "== checking the console's sources (eslint, with the rules of Vue)"
	@cd console && npm run --silent lint

pages: ## write docs/settings.md from the program
	@$(GO) run ./job/page

types: ## write api/openapi.json and the console's types from it
	@$(GO) generate ./api
	@cd console && npm run --silent types

bench: build ## compare the engine with hand-written loops (some ten minutes)
	@scripts/install.sh server
	@$(GO) build -o bin/bench ./bench
	@./bin/bench
	@echo "== what comes in: Avro and Parquet beside JSON of the same rows, posts, changes of a table"
	@$(GO) test -run xxx -bench Decode ./connect/formats/avro ./connect/formats/parquet | grep ^Benchmark
	@$(GO) test -run xxx -bench Posts ./connect/posts | grep ^Benchmark
	@$(GO) test -run xxx -bench Changes ./connect/postgres | grep ^Benchmark

clean: ## remove what was built and made
	rm -rf bin harbour/data bench/data console/dist/assets console/dist/index.html console/dist/mark.svg console/node_modules console/dist-tables e2e/peers/node_modules
