# Wexter: `make demo` and `make test` are all that is needed.
export CGO_ENABLED ?= 0
ADDR ?= 127.0.0.1:8080
GOFILES = $(shell git ls-files -co --exclude-standard '*.go')

.PHONY: readings demo build test check-format go-test race race-built assets check-assets browser bench fuzz

demo: build
	./bin/wexter demo --addr $(ADDR)

build:
	go build -trimpath -o bin/wexter ./cmd/wexter

# Much of the browser's time is waiting: the compiler makes use of it.
test: check-format go-test check-assets
	$(MAKE) -j2 --output-sync=target race-built browser
	$(MAKE) race

check-format:
	@out=$$(gofmt -l $(GOFILES)); if [ -n "$$out" ]; then echo "not formatted:"; echo "$$out"; exit 1; fi
	go vet ./...

# The live benches keep real time: nothing else runs beside them.
go-test:
	go test $$(go list ./... | grep -v '/live$$')
	go test ./live

# The race detector needs a C compiler; without one this step says so and is skipped.
# The accuracy trials are long and single-minded, so they run in short form here; of the
# case work and the web only what several hands do at once.
RACED = ./store/... ./live/... ./instrument/... ./casework ./web/...
race-built:
	@if command -v gcc >/dev/null 2>&1; then CGO_ENABLED=1 nice go test -race -run '^$$' $(RACED); fi

race:
	@if command -v gcc >/dev/null 2>&1; then CGO_ENABLED=1 go test -race -short ./store/... ./live/... ./instrument/... && \
	CGO_ENABLED=1 go test -race -short -run 'Twice|Tabs|Evidence|Kit|Backup' ./casework && \
	CGO_ENABLED=1 go test -race -short -run 'Live|Car|Scan|Stream|Double|Second|Old|Strip|Security' ./web/...; \
	else echo "no C compiler here: the race detector is left out"; fi

node_modules/.package-lock.json: package.json package-lock.json
	npm ci --no-audit --no-fund --ignore-scripts
	@touch $@

assets: node_modules/.package-lock.json
	node web/assets/build.mjs web/static

# Built again into a fresh folder, the committed assets must come out the same.
check-assets: node_modules/.package-lock.json
	rm -rf tmp/static && mkdir -p tmp
	node web/assets/build.mjs tmp/static
	diff -r tmp/static web/static || { echo "web/static is not what make assets builds: run it and commit"; exit 1; }

CHROMIUM ?= /usr/bin/chromium
$(CHROMIUM):
	apt-get update -qq && apt-get install -y -qq --no-install-recommends chromium

browser: node_modules/.package-lock.json $(CHROMIUM) build
	node --test --test-concurrency=2 e2e/case.test.mjs e2e/map.test.mjs e2e/reason.test.mjs
	node --test --test-concurrency=2 e2e/live.test.mjs e2e/car.test.mjs

bench:
	go test -run '^$$' -bench . -benchmem ./...

# What the plant says of every suspect, for the reasoning: some forty minutes on two cores.
readings:
	go run ./cmd/readings --anew

fuzz:
	go test ./core/units -run '^$$' -fuzz FuzzParse -fuzztime 20s
	go test ./ingest -run '^$$' -fuzz FuzzReadCSV -fuzztime 20s
	go test ./ingest -run '^$$' -fuzz FuzzReadScan -fuzztime 20s
	go test ./ingest -run '^$$' -fuzz FuzzReadCase -fuzztime 20s
	go test ./ingest -run '^$$' -fuzz FuzzReadBook -fuzztime 20s
	go test ./report -run '^$$' -fuzz FuzzReadBundle -fuzztime 20s
