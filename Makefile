# make demo   show a made-up database being answered from memory
# make test   install what tests need, if it is missing, and test everything
# make lint   go vet and staticcheck
# make bench  how fast reading a statement and answering from memory are
# make screenshots  take the pictures in docs/screenshots anew

GO ?= go
export CGO_ENABLED = 1

.PHONY: build demo test lint bench screenshots

build:
	$(GO) build -o bin/jollylarder ./cmd/jollylarder

demo: build
	./bin/jollylarder demo

# Never from the cache: tests also run what other packages build. One package at a time: they start servers.
test: lint
	./scripts/install-test-tools
	$(GO) test -count=1 -p 1 -timeout 20m ./...

lint:
	@test -z "$$(gofmt -l cmd internal)" || { echo "not formatted:"; gofmt -l cmd internal; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

bench:
	./scripts/install-test-tools
	$(GO) test -run '^$$' -bench . -benchmem ./internal/core/statement ./internal/core/freshness ./internal/core/ledger ./internal/core/engine ./internal/wire/postgres

screenshots: build
	./scripts/screenshots
