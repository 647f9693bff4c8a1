# Open Relay. On a fresh machine with Go, Node.js and npm, each target does its own set-up.

GO_SOURCES := $(shell find cmd internal console/embed.go -name '*.go' -o -name '*.sql' -o -name '*.yaml' -o -name '*.json' -o -name '*.html' 2>/dev/null)
UI_SOURCES := $(shell find console/src console/public console/index.html console/vite.config.ts 2>/dev/null)
VERSION := $(shell git describe --always --dirty 2>/dev/null || echo development)

.PHONY: demo test race cover soak bench bench-large build check-go check-console screenshots clean

demo: build
	./bin/openrelay demo

build: bin/openrelay

bin/openrelay: $(GO_SOURCES) console/dist/index.html go.mod go.sum
	go build -ldflags "-s -w -X main.version=$(VERSION)" -o $@ ./cmd/openrelay

console/node_modules/.ready: console/package.json console/package-lock.json
	cd console && npm install --no-audit --no-fund
	touch $@

# The console's types come from the description that the service gives of itself.
console/openapi.json: $(wildcard internal/api/*.go internal/core/*/*.go internal/relay/*.go internal/relay/*/*.go internal/store/*.go)
	go run ./cmd/openrelay openapi > $@.new
	mv $@.new $@

console/src/api/schema.d.ts: console/openapi.json console/node_modules/.ready
	cd console && npm run --silent types

console/dist/index.html: console/src/api/schema.d.ts $(UI_SOURCES)
	cd console && npm run --silent build

# What is given to others: programs that need nothing else, what they are made of (CycloneDX), checksums, and what installs them.
RELEASE := build/release
SBOM := go run github.com/CycloneDX/cyclonedx-gomod/cmd/cyclonedx-gomod@v1.9.0

.PHONY: release
release: console/dist/index.html
	rm -rf $(RELEASE) && mkdir -p $(RELEASE)
	for arch in amd64 arm64; do \
		CGO_ENABLED=0 GOOS=linux GOARCH=$$arch go build -trimpath -ldflags "-s -w -X main.version=$(VERSION)" \
			-o $(RELEASE)/openrelay-linux-$$arch ./cmd/openrelay && \
		$(SBOM) bin -json -version $(VERSION) -output $(RELEASE)/openrelay-linux-$$arch.cdx.json $(RELEASE)/openrelay-linux-$$arch || exit 1; \
	done
	cd console && npm sbom --silent --sbom-format cyclonedx --omit dev > ../$(RELEASE)/console.cdx.json
	cp packaging/openrelay.service packaging/Containerfile $(RELEASE)/
	-cp /etc/ssl/certs/ca-certificates.crt $(RELEASE)/
	cd $(RELEASE) && sha256sum * > SHA256SUMS

# A browser for the tests of the console, from Debian's packages where there is none.
.PHONY: browser
browser:
	@command -v chromium >/dev/null || (apt-get update -q && apt-get install -y -q --no-install-recommends chromium)

# A server for the tests of files by SFTP, likewise; after the browser, since packages are installed one at a time.
.PHONY: sshd
sshd: browser
	@test -x /usr/sbin/sshd || (apt-get update -q && apt-get install -y -q --no-install-recommends openssh-server)

# A print server for the tests of printing, likewise.
.PHONY: printserver
printserver: sshd
	@test -x /usr/lib/cups/backend/cups-pdf || (apt-get update -q && \
		DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends cups printer-driver-cups-pdf)

check-console: console/dist/index.html
	cd console && npm run --silent check && npm run --silent lint && npm run --silent test

check-go: bin/openrelay
	test -z "$$(gofmt -l cmd internal console/*.go)" || (gofmt -l cmd internal console/*.go; exit 1)
	go vet $(PACKAGES)

PACKAGES := ./cmd/... ./internal/... ./console

# What was vetted by check-go is not vetted again.
TEST := go test -vet=off -timeout 8m

.PHONY: ready
ready: build printserver check-go check-console

# Those that take longest begin first, so that none is left alone at the end.
LONGEST := $(addprefix openrelay/internal/,whole relay/shipping connector api cli store relay/joining)

# The browser has the machine to itself: a page that waits too long for its turn fails.
test:
	$(MAKE) -j2 ready
	$(TEST) -parallel 4 $(LONGEST) $$(go list $(PACKAGES) | grep -v /internal/whole/)
	$(TEST) $$(go list ./internal/whole/... | grep -v -e /whole$$ -e /browse$$)
	$(TEST) ./internal/whole/browse

# Where goroutines meet: these run with the race detector, too; of the whole, those in which many things happen at once.
# SQLite itself is left out: it is translated from C, and the detector makes it twenty times slower.
RACED := ./internal/api ./internal/connector ./internal/relay/engine ./internal/relay/exchange ./internal/standin ./internal/store
TOGETHER := Push|Two|Slow|Pause|Events|Idempotency|Pending
RACE := $(TEST) -race -gcflags=modernc.org/sqlite/lib=-race=false

race: console/dist/index.html sshd
	$(RACE) $(RACED)
	$(RACE) -parallel 4 -run '$(TOGETHER)' ./internal/whole/

# How much of each package its own tests run through, and of the rooms all tests that stand in one of them.
cover: sshd
	mkdir -p build
	go test -cover $$(go list $(PACKAGES) | grep -v -e /internal/whole -e /internal/relay -e /internal/demo) | grep -v 'no test files'
	go test -coverpkg=./internal/relay/... -coverprofile=build/relay.cover ./internal/relay/... >/dev/null
	go run ./internal/whole/cover build/relay.cover

# Simulated months with everything breaking, seed after seed; SEEDS=40 FIRST=1 to choose. A failing seed is printed with
# the command that repeats it.
SEEDS ?= 10
FIRST ?= 1
soak:
	go test -count=1 -timeout 24h -run TestSoak ./internal/whole/sim -soak $(SEEDS) -first $(FIRST)

bench: build
	mkdir -p build
	go run ./internal/whole/bench -out build/bench.json

# What needs a large file; it may take an hour.
bench-large: build
	mkdir -p build
	go run ./internal/whole/bench -large -out build/bench-large.json

# The pictures of the README, drawn from the demo.
screenshots: build browser
	SCREENSHOTS=$(CURDIR)/docs/screenshots go test -count=1 ./internal/whole/browse/

clean:
	rm -rf bin build console/dist/assets console/dist/index.html console/node_modules
