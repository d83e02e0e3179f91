# Everything a new user needs: make demo, make test. See README.md.
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
GO ?= go

.PHONY: demo tour test build lint bench prerequisites test-prerequisites screenshots

build:
	$(GO) build -trimpath -ldflags "-X crosstwin/internal/cli.Version=$(VERSION)" -o bin/crosstwin ./cmd/crosstwin

prerequisites:
	@scripts/prerequisites demo

test-prerequisites:
	@scripts/prerequisites test

demo: prerequisites build
	@bin/crosstwin demo

tour: prerequisites build
	@bin/crosstwin tour

test: test-prerequisites build
	$(GO) test -parallel 4 -timeout 18m ./...

lint:
	@scripts/lint

bench: prerequisites build
	$(GO) test -run '^$$' -bench . -benchtime 1x -timeout 20m ./test/bench

screenshots: prerequisites build
	@scripts/screenshots
