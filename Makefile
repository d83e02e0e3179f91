# Everything a new user needs: make demo, make test. See README.md.
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
GO ?= go

.PHONY: demo tour test build console lint bench chaos prerequisites test-prerequisites screenshots deb hosts-test

build: console
	$(GO) build -trimpath -ldflags "-X crosstwin/internal/cli.Version=$(VERSION)" -o bin/crosstwin ./cmd/crosstwin

# The console is built into web/dist, which the binary embeds. Its client is
# generated from the API's own description.
CONSOLE := $(shell find web/src web/public -type f -not -name schema.ts 2>/dev/null) web/index.html web/package.json web/package-lock.json web/vite.config.ts web/tsconfig.json

console: web/dist/index.html

# Not "npm ci": it insists on builds of a dependency for other systems, which a
# mirror may lack. Versions are those of the lock file all the same.
web/node_modules/.package-lock.json: web/package.json web/package-lock.json
	cd web && npm install --no-save --no-audit --no-fund --loglevel=error
	@touch $@

web/src/api/schema.ts: web/node_modules/.package-lock.json $(wildcard internal/api/*.go internal/apitype/*.go internal/core/*/*.go internal/store/*.go)
	$(GO) run ./cmd/crosstwin openapi > web/openapi.json
	cd web && npm run --silent types >/dev/null

web/dist/index.html: web/src/api/schema.ts $(CONSOLE)
	cd web && npm run --silent build >/dev/null
	@touch web/dist/.gitkeep

prerequisites:
	@scripts/prerequisites demo

test-prerequisites:
	@scripts/prerequisites test

demo: prerequisites build
	@bin/crosstwin demo

tour: prerequisites build
	@bin/crosstwin tour

# The tests drive the binary: an earlier result would not know of it. "make lint" vets.
# Some hundred small processes of ours run at a time: their collectors may wait longer.
test: test-prerequisites build
	GOGC=400 CROSSTWIN_BINARY=$(CURDIR)/bin/crosstwin $(GO) test -count=1 -vet=off -p 3 -parallel 6 -timeout 24m ./...

lint: web/src/api/schema.ts
	@scripts/lint

bench: prerequisites build
	$(GO) test -run '^$$' -bench . -benchtime 1x -timeout 75m ./test/bench

# Random schedules of operations and disturbances: SCHEDULES of them, from SEED on; 10,000
# simulated schedules; and the tests of the whole product on both engines, with the service
# killed at every step. "make test" runs five schedules, some hundreds of the simulated ones,
# draws one engine for tests of rules that both share, and kills at a sample of the steps.
chaos: test-prerequisites build
	CROSSTWIN_CHAOS=$(or $(SCHEDULES),60) CROSSTWIN_SEED=$(SEED) $(GO) test -count=1 -v -timeout 4h ./test/chaos
	CROSSTWIN_SIMULATIONS=10000 $(GO) test -count=1 -v -timeout 1h ./internal/core/guard/simulation
	CROSSTWIN_EVERY_STEP=1 $(GO) test -count=1 -parallel 4 -timeout 3h -skip TestUnderFencing ./test/e2e
	CROSSTWIN_EVERY_STEP=1 $(GO) test -count=1 -timeout 1h -run TestUnderFencing ./test/e2e
	CROSSTWIN_EVERY_STEP=1 $(GO) test -count=1 -timeout 1h -run TestClickedThrough ./test/console

screenshots: prerequisites build
	@scripts/screenshots

# Debian packages in dist/: a version that sorts by time, whatever is checked out.
DEB_VERSION := 0.1~$(shell git log -1 --date=format:%Y%m%d%H%M%S --format=%cd 2>/dev/null || echo 0).$(VERSION)
DEB_ARCH := $(shell dpkg --print-architecture 2>/dev/null)

deb: build
	rm -rf dist
	mkdir -p dist/units dist/completion
	sed 's#/usr/local/bin/crosstwin serve --dir /var/lib/crosstwin#/usr/bin/crosstwin serve --dir /var/lib/crosstwin --config /etc/crosstwin/serve.yaml#' \
	  deploy/crosstwin.service >dist/units/crosstwin.service
	for u in crosstwin-agent crosstwin-deadman crosstwin-referee crosstwin-gate; do \
	  sed 's#/usr/local/bin/#/usr/bin/#' deploy/$$u.service >dist/units/$$u.service; done
	bin/crosstwin docs --man dist/man
	gzip -9n dist/man/*
	bin/crosstwin completion bash >dist/completion/crosstwin
	for p in crosstwin crosstwin-agent; do \
	  DEB_VERSION=$(DEB_VERSION) DEB_ARCH=$(DEB_ARCH) $(GO) tool -modfile=deploy/packages/go.mod nfpm package \
	    --config deploy/packages/$$p.yaml --packager deb --target dist/; done
	rm -r dist/units dist/completion dist/man

# The packages on bare Debian hosts with the service manager as process 1. HOSTS is the
# program that boots them; their template is made once, with these packages.
HOSTS ?= ../shared/tools/debian-host

hosts-test: deb
	$(HOSTS) template postgresql-15 mariadb-server mariadb-backup
	CROSSTWIN_HOSTS=$(abspath $(HOSTS)) CROSSTWIN_DEBS=$(CURDIR)/dist $(GO) test -count=1 -v -timeout 30m ./test/hosts
