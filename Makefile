# Bare `make` lists the targets.
.DEFAULT_GOAL := help
GO ?= go

.PHONY: help build demo test lint bench clean compiler

help: ## list the targets
	@grep -E '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed -E 's/^([a-z]+):.*## /\1\t/' | expand -t 10

build: ## build ./bin/undertide
	@echo "== building ./bin/undertide (the first time takes a few minutes)"
	@$(GO) build -o bin/undertide ./cmd/undertide

demo: build ## make the harbour's events, run its jobs, show their rows
	@echo "== making two hours of events in harbour/data"
	@$(GO) run ./harbour/make harbour/data
	@echo "== checking the job documents"
	@./bin/undertide check harbour/jobs/*.yaml
	@echo "== running harbour/jobs/mean-level.yaml"
	@./bin/undertide run harbour/jobs/mean-level.yaml
	@echo "== running harbour/jobs/crane-load.yaml, its first rows as a table"
	@./bin/undertide run harbour/jobs/crane-load.yaml --out loads=- --format table --lanes 1 | sed -n 1,22p
	@echo "== rows are in harbour/data/out; harbour/README.md explains the jobs"

# The race detector needs a C compiler; nothing else of the tests does.
compiler:
	@command -v gcc >/dev/null || { echo "== installing gcc, which the race detector needs"; \
		SUDO=$$(test "$$(id -u)" = 0 || echo sudo); $$SUDO apt-get update -q && $$SUDO apt-get install -y -q gcc libc6-dev; }

test: compiler lint ## all tests, with the race detector; what CI runs
	@echo "== testing the packages, with the race detector"
	@$(GO) test -race -tags checks -timeout 20m $$($(GO) list ./... | grep -v /e2e)
	@echo "== driving the real binary"
	@$(GO) test -timeout 10m ./e2e

lint: ## formatting, go vet, pinned dependencies
	@echo "== checking format, vet and go.mod"
	@test -z "$$(gofmt -l .)" || { gofmt -l .; echo "run: gofmt -w ."; exit 1; }
	@$(GO) vet ./...
	@$(GO) vet -tags checks ./...
	@$(GO) mod verify >/dev/null || { echo "run: go mod download"; exit 1; }

bench: ## compare the engine with hand-written loops (some ten minutes)
	@$(GO) build -o bin/bench ./bench
	@./bin/bench

clean: ## remove what was built and made
	rm -rf bin harbour/data bench/data
