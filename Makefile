# Wexter: `make demo` and `make test` are all that is needed.
export CGO_ENABLED ?= 0
ADDR ?= 127.0.0.1:8080
GOFILES = $(shell git ls-files -co --exclude-standard '*.go')

.PHONY: readings demo build test check-format go-test race assets check-assets browser bench fuzz accuracy attack hunts cars

demo: build
	./bin/wexter demo --addr $(ADDR)

# What `wexter version` says: the last tag, and the commit that was built.
RELEASE = $(shell git describe --tags --dirty --always 2>/dev/null)
COMMIT = $(shell git rev-parse HEAD 2>/dev/null)
DATE = $(shell git log -1 --format=%cI 2>/dev/null)
build:
	go build -ldflags "-X main.release=$(RELEASE) -X main.commit=$(COMMIT) -X main.date=$(DATE)" -o bin/wexter ./cmd/wexter

# No test depends on how fast the machine is, so that all run side by side: much of the
# browser's time is waiting. The limits, 45 minutes, only keep something broken from
# hanging them for good; Go's tests are vetted already.
LIMITS = -timeout 45m -vet=off
test: check-format
	$(MAKE) -j4 --output-sync=target browser go-test race check-assets

check-format:
	@out=$$(gofmt -l $(GOFILES)); if [ -n "$$out" ]; then echo "not formatted:"; echo "$$out"; exit 1; fi
	go vet ./...

# Some packages wait more than they work: more of them at once than there are processors.
go-test:
	go test $(LIMITS) -p 4 ./...

# The race detector needs a C compiler; without one this step says so and is left out. It
# looks at what several hands do at once. With a C compiler a library that is never called
# compiles a database in C: leaving out the optimiser saves most of that. The database that
# is called is a translation from C: watching its own memory as well would cost as much as
# all the rest. Only that one package is left unwatched, and it has no generic functions: of
# a generic function that several packages instantiate the linker keeps one copy, and an
# unwatched one would hide locks of the standard library and report races that are none.
race: export CGO_CFLAGS = -g -O0
race: export GOFLAGS += -gcflags=modernc.org/sqlite/lib=-race=false
race:
	@if command -v gcc >/dev/null 2>&1; then \
	CGO_ENABLED=1 go test $(LIMITS) -race ./store ./instrument && \
	CGO_ENABLED=1 go test $(LIMITS) -race -run 'OverRange|Started|OnDisk|NoReadings' ./live && \
	CGO_ENABLED=1 go test $(LIMITS) -race -run 'Pacers|ThatIsStepped' ./standin && \
	CGO_ENABLED=1 go test $(LIMITS) -race -run 'Twice|Tabs|Evidence|Kit|Backup' ./casework && \
	CGO_ENABLED=1 go test $(LIMITS) -race -run 'CarLive|LiveStream|Outlast|Double|SecondTab|OldPage' ./web; \
	else echo "no C compiler here: the race detector is left out"; fi

node_modules/.package-lock.json: package.json package-lock.json
	npm ci --no-audit --no-fund --ignore-scripts
	@touch $@

assets: node_modules/.package-lock.json
	node web/assets/build.mjs web/static

# Built again into a fresh folder, the committed assets must come out the same. The dot
# keeps Go's list of packages, which a test asks for meanwhile, out of that folder.
check-assets: node_modules/.package-lock.json
	rm -rf .tmp/static && mkdir -p .tmp
	node web/assets/build.mjs .tmp/static
	diff -r .tmp/static web/static || { echo "web/static is not what make assets builds: run it and commit"; exit 1; }

# Debian's chromium without the window around it: half the work of the whole browser.
CHROMIUM ?= /usr/bin/chromium-headless-shell
$(CHROMIUM):
	apt-get update -qq && apt-get install -y -qq --no-install-recommends chromium-headless-shell

browser: node_modules/.package-lock.json $(CHROMIUM) build
	CHROMIUM=$(CHROMIUM) node --test --test-timeout=2700000 --test-concurrency=4 e2e/*.test.mjs

bench:
	go test -run '^$$' -bench . -benchmem ./...

# Goes at the running program and prints what it came to: some ten minutes.
attack:
	go run ./cmd/attack

# The long form of the accuracy trials: the figures in docs/physics.md and docs/reasoning.md,
# a hundred kills, rows of the table of readings twenty times as often. Go's cache of
# tests does not know the variables that ask for a long form: -count=1 leaves it out.
accuracy:
	WEXTER_LONG=1 go test -count=1 -v -timeout 3h -run 'Rigs|Intervals|Looking|Stopping|Kills|Calibration|TheTable|TestsTell|FaultRuns|CombinationStarts|FindsTheDiameter|RampsFind|CyclesFind|AgainstThePlant|FollowFinds|ClampingFinds|StrokesFind|NightsAre|TreeAgainst|CircuitFinds' ./core/bench ./core/circuit ./core/smoke ./core/decay ./core/diagnose ./core/sim ./live

# Five hundred hunts, four ways: some forty minutes on two cores.
HUNTS ?= 500
hunts:
	WEXTER_HUNTS=$(HUNTS) go test -count=1 ./core/diagnose -run TestStrategies -timeout 5h -v

# The cars of the calibration, drawn anew: some half an hour.
CARS ?= 5200
cars:
	WEXTER_DRAW=$(CARS) go test -count=1 ./core/diagnose -run TestDrawCars -timeout 5h -v

# What the plant says of every suspect, for the reasoning: some forty minutes on two cores.
# Interrupted, it goes on where it stopped.
readings:
	go run ./cmd/readings --anew

# Every fuzz target, a minute each. What they once found is kept under testdata and runs
# with the tests.
FUZZ ?= 60s
fuzz:
	@go list -f '{{.ImportPath}}' ./... | while read pkg; do \
	  for f in $$(go test -list '^Fuzz' $$pkg | grep '^Fuzz'); do \
	    echo "$$pkg $$f"; go test $$pkg -run '^$$' -fuzz "^$$f\$$" -fuzztime $(FUZZ) || exit 1; done; done
