# Everything is built as one static program, without cgo.
export CGO_ENABLED = 0

VERSION ?= 0.1.0
GO ?= go

.PHONY: build demo test lint shots bench

build:
	$(GO) build -trimpath -ldflags "-s -w -X tivset/internal/command.Version=$(VERSION)" -o bin/tivset ./cmd/tivset

demo: build
	bin/tivset demo --tour

# Installs the servers that the tests use, where it may; then runs every test.
test:
	sh scripts/test.sh

lint:
	test -z "$$(gofmt -l .)"
	$(GO) vet ./...

shots: build
	sh scripts/shots.sh

bench: build
	sh scripts/bench.sh
