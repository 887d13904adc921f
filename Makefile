# make demo   show a made-up database being answered from memory; with DB=mariadb one that speaks the protocol of MariaDB and MySQL
# make test   install what tests need, if it is missing, and test everything
# make lint   go vet and staticcheck
# make bench  compare the larder with the database, a bare relay, a canned reply and a key-value server, and write docs/performance.md's tables: 11 to 21 minutes
# make bench-core  measure the parts by themselves, and write their table in docs/performance.md: several minutes
# make check-freshness FOR=10m SEED=1 FEED=true GENERATED=true PROTOCOL=mysql  look for old answers for a while (one minute unless FOR says otherwise)
# make check-pairs PROTOCOL=mysql  have each of some hundred changes meet each of as many cached queries: 5 to 10 minutes; with CHANGES=3 FOR=10m three in a row, at random, for that long
# make check-faults  have everything go wrong that may, under load, and judge every answer: 8 minutes; as root also a full disk
# make check-flood  flood a larder with patterns, names, long texts and connections, and report its memory: 3 to 4 minutes
# make check-tables STATEMENTS=20000 SEED=1  hold what random statements of MariaDB's read and write against the server's locks: a minute
# make check-clients  install usual database clients and see what each is answered from memory, and that its answers are right: 3 minutes
# make check-fuzz FOR=3m  fuzz each of some twenty decoders of bytes for that long: an hour in all
# make package   build a .deb and an .rpm in bin/package: 1 to 5 minutes
# make check-package  install, upgrade, remove and purge the package in a system of its own, and have a real Prometheus scrape a larder, as root: 4 to 5 minutes
# make screenshots  take the pictures in docs/screenshots anew

GO ?= go
export CGO_ENABLED = 1

.PHONY: build demo test lint bench bench-core check-freshness check-pairs check-faults check-flood check-tables check-clients check-fuzz package check-package screenshots

build:
	$(GO) build -o bin/jollylarder ./cmd/jollylarder

demo: build
	./bin/jollylarder demo $(if $(filter mariadb mysql,$(DB)),--protocol mysql)

# Never from the cache: tests also run what other packages build. Two packages at a time: they start servers.
test: lint
	./scripts/install-test-tools
	$(GO) test -count=1 -p 2 -timeout 40m ./...
	$(GO) test -count=1 -tags faults -timeout 20m -run Fault ./internal/wire/postgres ./internal/wire/mysql
	$(GO) test -count=1 -p 1 -tags safeguards -timeout 30m -run 'Safeguard|Cause|TheServerKnowsOfWholeRows' $(SAFEGUARDED)
	$(GO) test -count=1 -tags safeguards -timeout 30m -run ConformanceWithoutASafeguard ./internal/wire/postgres ./internal/wire/mysql

# What tests switch safeguards off in, which only a build of their own can.
SAFEGUARDED = ./internal/core/freshness ./internal/core/engine ./internal/freshcheck

lint:
	@test -z "$$(gofmt -l cmd internal)" || { echo "not formatted:"; gofmt -l cmd internal; exit 1; }
	$(GO) vet ./...
	$(GO) vet -tags packages ./cmd/jollylarder
	$(GO) vet -tags faults ./internal/fault ./internal/wire/postgres ./internal/wire/mysql
	$(GO) vet -tags safeguards $(SAFEGUARDED) ./internal/wire/postgres ./internal/wire/mysql
	$(GO) tool staticcheck ./...

bench: build
	./scripts/install-test-tools
	$(GO) build -o bin/larderbench ./cmd/larderbench
	./bin/larderbench -json bin/bench.json -page docs/performance.md

bench-core:
	./scripts/install-test-tools
	$(GO) build -o bin/larderbench ./cmd/larderbench
	$(GO) test -run '^$$' -bench . -skip MemoryOfPatterns -count 5 -benchmem $(PARTS) >bin/parts.txt
	$(GO) test -run '^$$' -bench MemoryOfPatterns ./internal/core/engine >>bin/parts.txt
	$(GO) test -run '^$$' -bench . -benchtime 1500x -count 5 ./internal/feed/postgres ./internal/wire/postgres >>bin/parts.txt
	$(GO) test -run '^$$' -bench . -benchtime 20x -count 5 ./internal/feed/mysql ./internal/wire/mysql >>bin/parts.txt
	./bin/larderbench parts docs/performance.md <bin/parts.txt

PARTS = ./internal/core/statement ./internal/core/freshness ./internal/core/ledger ./internal/core/engine ./internal/core/inputs ./internal/core/larder ./internal/control/server

FOR ?= 1m
SEED ?= 1
STATEMENTS ?= 20000
FEED ?= false
PROTOCOL ?= postgresql
CHANGES ?= 1
GENERATED ?= false

check-freshness:
	./scripts/install-test-tools
	$(GO) build -o bin/freshcheck ./cmd/freshcheck
	./bin/freshcheck -protocol $(PROTOCOL) -for $(FOR) -seed $(SEED) -feed=$(FEED) -generated=$(GENERATED)

check-pairs:
	./scripts/install-test-tools
	$(GO) build -o bin/freshcheck ./cmd/freshcheck
	./bin/freshcheck -pairs -changes $(CHANGES) -protocol $(PROTOCOL) -for $(FOR) -seed $(SEED)

check-faults: build
	./scripts/install-test-tools
	$(GO) build -o bin/faultcheck ./cmd/faultcheck
	./bin/faultcheck

check-flood: build
	./scripts/install-test-tools
	$(GO) build -o bin/floodcheck ./cmd/floodcheck
	./bin/floodcheck

check-tables:
	./scripts/install-test-tools
	STATEMENTS=$(STATEMENTS) SEED=$(SEED) $(GO) test -count=1 -timeout 1h -v -run NoTableIsOverlooked ./internal/wire/mysql

check-clients:
	./scripts/install-test-tools clients
	$(GO) build -o bin/clientcheck ./cmd/clientcheck
	./bin/clientcheck -why

check-fuzz:
	./scripts/fuzz $(FOR)

package:
	./scripts/package

check-package:
	./scripts/install-test-tools
	command -v debootstrap >/dev/null && command -v promtool >/dev/null && command -v rpm >/dev/null || DEBIAN_FRONTEND=noninteractive apt-get install -y debootstrap prometheus rpm
	$(GO) test -count=1 -tags packages -timeout 20m -run 'ThePackage|PrometheusScrapes' ./cmd/jollylarder

screenshots: build
	./scripts/screenshots
