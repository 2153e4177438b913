# The commands of this project. `make test` is all that a fresh machine with Go
# needs: it installs the system packages that tests use where they are missing.

GO ?= go

.PHONY: test race lint bench bench-etcd bench-phones faults soak cross demo phones

# What is in a module of its own, so that other programs do not carry what it needs. The tag ci has
# Fyne, of examples/settings, do without a display.
MODULES = server/etcd bindings examples/settings

# Most tests wait more than they compute, so that several run at once on each processor. A test
# that hangs ends after 50 s (internal/test/hang); the timeout ends one that loops.
TEST = $(GO) test -timeout 10m -parallel 8

# Tests of other modules read it, and so they run again when a document changes (internal/test/console).
export DOCS := $(shell cat docs/*.md | cksum)

# The modules are tested side by side, the longest packages first. Each module prints its results when
# it ends.
test: packages
	@$(MAKE) --no-print-directory -k -j4 -O test-root $(MODULES:%=test-in-%)

.PHONY: test-root $(MODULES:%=test-in-%)
test-root:
	$(TEST) -p 3 ./server ./js ./board ./...
	$(TEST) -tags pantrydebug ./debugview ./examples/plotbook

$(MODULES:%=test-in-%): test-in-%:
	cd $* && $(TEST) -tags ci ./...

# Packages whose code runs in several goroutines. The page runs in a browser, and not in Go.
RACE = CROWD=16 $(TEST) -race -skip '^TestPage'
race:
	@$(MAKE) --no-print-directory -k -j3 -O race-root race-in-server/etcd race-in-examples/settings

.PHONY: race-root race-in-server/etcd race-in-examples/settings
race-root:
	$(RACE) ./server ./board . ./internal/... ./mobile/... ./examples/phones

race-in-server/etcd race-in-examples/settings: race-in-%:
	cd $* && $(RACE) -tags ci .

lint:
	@.ci/words
	@test -z "$$(gofmt -l . | tee -a /dev/stderr)" || { echo "gofmt: the files above need it" >&2; exit 1; }
	@staticcheck=$$($(GO) tool -n staticcheck) && for m in . $(MODULES); do \
		echo "go vet, staticcheck and go mod tidy in $$m"; \
		(cd $$m && $(GO) vet -tags ci ./... && $$staticcheck -tags ci ./... && $(GO) mod tidy -diff) || exit 1; \
	done; \
	echo "smallpantry-vet over the examples and the demo" && $(GO) run ./cmd/smallpantry-vet ./examples/... ./internal/cli/demo && \
	$(GO) vet -tags pantrydebug ./debugview && $$staticcheck -tags pantrydebug ./debugview

# Writes docs/benchmarks.md. It fails if a median ratio is over its limit; the page then says which.
bench:
	$(GO) run ./internal/bench > docs/benchmarks.md
	$(GO) test -count=1 -run TestFigures . -update

# The same for boards in etcd.
bench-etcd:
	cd server/etcd && $(GO) run ./internal/bench > ../../docs/benchmarks-etcd.md

# Puts each fault of internal/faults into the code and reports those that no test notices: over an
# hour.
faults: packages
	$(GO) run ./internal/faults

# Repeating tests with all their rounds, the fuzzers, and the faults: over four hours.
SOAKED = SOAK=1 $(GO) test -count=1 -timeout 90m -v
soak: faults
	$(SOAKED) -run 'ProgramsOfSeveralVersions' .
	$(SOAKED) -run 'PowerCuts|Killed|Several|Flip|Cut|Full|Faults|AnotherReader|PastAfter' ./internal/ledger
	$(SOAKED) -run 'ReplicaNeverDiverges|LossyNetwork|Chaos' ./board
	$(SOAKED) -run 'MixedLoad|EachAddition|KilledUnderLoad|AtWhileCompacting|PageLarge' ./server
	$(SOAKED) -run 'Bystander' ./server
	$(SOAKED) -run 'TestMore' ./js
	cd server/etcd && $(SOAKED) -run Kills ./cmd/smallpantry-etcd
	$(GO) test -run '^$$' -fuzz '^FuzzOpen$$' -fuzztime 10m -fuzzminimizetime 0 -parallel 1 ./internal/ledger
	$(GO) test -run '^$$' -fuzz '^FuzzParse$$' -fuzztime 10m -fuzzminimizetime 0 -parallel 1 ./value

# The library builds without cgo where phones and desktops are, and the commands
# where desktops are. What gobind makes for Android compiles.
cross:
	@for target in android/arm64 ios/arm64; do \
		echo "build for $$target"; \
		CGO_ENABLED=0 GOOS=$${target%/*} GOARCH=$${target#*/} $(GO) build . ./board ./mobile/... || exit 1; \
	done; \
	for target in darwin/arm64 windows/amd64 linux/386 linux/arm; do \
		echo "build for $$target"; \
		CGO_ENABLED=0 GOOS=$${target%/*} GOARCH=$${target#*/} $(GO) build . ./board ./cmd/... ./examples/... || exit 1; \
	done
	cd bindings && $(TEST) -tags cross -run Android .

demo:
	$(GO) run ./cmd/smallpantry demo

# What a call through gobind's library costs, and its size for each architecture for which there is a
# C compiler: gcc-aarch64-linux-gnu, gcc-arm-linux-gnueabihf, gcc-i686-linux-gnu.
bench-phones: packages
	cd bindings && MEASURE=../docs/benchmarks-phones.md $(GO) test -count=1 -run Measure .

# What runs of phones here: apps in Java and Kotlin on the library that gobind makes.
phones: packages
	cd bindings && $(GO) test -count=1 -v .

# What tests use, as Debian packages: script, which makes a terminal; python3, in which the
# other reader of journals is written; curl and openssl, for the lines of the documents; ip, for networks
# that part; chromium, node and npm, for pages; javac and two cc, for apps in Java and Kotlin; clang, which reads one in Objective-C. Without
# apt-get what is missing stays so, and its tests are skipped. What the tests of the JavaScript
# client, of the page and of Kotlin use besides is pinned in their package-lock.json. go mod tidy downloads
# the modules that it asks for again in the apps that tests create.
.PHONY: packages
packages:
	@missing=; for p in script:bsdutils python3:python3 curl:curl openssl:openssl ip:iproute2 chromium-headless-shell:chromium-headless-shell node:nodejs npm:npm javac:default-jdk-headless cc:gcc aarch64-linux-gnu-gcc:gcc-aarch64-linux-gnu clang:clang; do \
		command -v $${p%%:*} >/dev/null || missing="$$missing $${p##*:}"; done; \
	if [ -n "$$missing" ] && command -v apt-get >/dev/null; then apt-get update -q && apt-get install -y -q $$missing; fi
	@for d in js bindings server/page; do \
		if command -v npm >/dev/null && ! [ $$d/node_modules/.package-lock.json -nt $$d/package-lock.json ]; then (cd $$d && npm ci) || exit 1; fi; \
	done
	@$(GO) mod tidy -diff >/dev/null || true
