# Everything is built as one static program, without cgo.
export CGO_ENABLED = 0

VERSION ?= 0.1.0
GO ?= go

.PHONY: build demo check test sweep race fuzz lint cross golden shots bench

build:
	$(GO) build -trimpath -ldflags "-s -w -X tivset/internal/command.Version=$(VERSION)" -o bin/tivset ./cmd/tivset

demo: build
	bin/tivset demo --tour

# The quick loop: what can be said without a server and without a long sweep.
check: lint
	$(GO) test -short -p 3 ./...

# Installs the servers that the tests use, where it may; then runs every test.
test:
	sh scripts/test.sh

# The tests that make calls fail one by one, with every call and not only some.
sweep:
	TIVSET_SWEEP=whole $(GO) test -count=1 -timeout 90m -run 'WhicheverCallFails|KilledAt|InterruptedAt|Shelves|WorkersKilled|KilledRounds' ./internal/work/... ./e2e ./kits

# The packages in which goroutines work side by side, under the race detector (which needs a C compiler).
race:
	CGO_ENABLED=1 $(GO) test -race -count=1 -short ./internal/hosting/... ./internal/records/... ./internal/logs ./internal/atomicfile \
		./internal/work/batch ./internal/app/archive ./internal/app/fetch ./internal/screen

# The program and its tests compile for every system that owners have.
cross:
	sh scripts/cross.sh

# Every fuzz test for half a minute.
fuzz:
	sh scripts/fuzz.sh 30s

# Formatting, vet, and staticcheck with what nobody uses.
lint:
	test -z "$$(gofmt -l .)"
	$(GO) vet ./...
	$(GO) vet -tags bench ./bench
	$(GO) tool staticcheck ./...

# Writes the generated docs anew; read the difference.
golden:
	$(GO) test ./internal/command ./internal/app/kit -run Docs -update

shots: build
	sh scripts/shots.sh

bench: build
	sh scripts/bench.sh
