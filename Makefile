# The commands of this project. `make test` is all that a fresh machine with Go
# needs: it installs the system packages that tests use where they are missing.

GO ?= go

.PHONY: test race lint bench soak cross demo

test: packages
	$(GO) test ./...

# Packages whose code runs in several goroutines.
race:
	$(GO) test -race . ./internal/... ./server ./board ./examples/phones

lint:
	@test -z "$$(gofmt -l . | tee /dev/stderr)" || { echo "gofmt: the files above need it" >&2; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	$(GO) mod tidy -diff

# Writes docs/benchmarks.md; fails when a ratio is over its limit, which the page then says.
bench:
	$(GO) run ./internal/bench > docs/benchmarks.md

# The tests of durability with many more rounds, 30 minutes of programs that
# share a file and meet faults, and the fuzzers: about an hour.
soak:
	SOAK=1 $(GO) test -count=1 -timeout 90m -v -run 'PowerCuts|Killed|Several|Flip|Cut|Full|Faults' ./internal/ledger
	$(GO) test -run '^$$' -fuzz FuzzOpen -fuzztime 10m -fuzzminimizetime 0 -parallel 1 ./internal/ledger
	$(GO) test -run '^$$' -fuzz FuzzParse -fuzztime 10m -fuzzminimizetime 0 -parallel 1 ./value

# The library builds without cgo where phones and desktops are, and the commands
# where desktops are.
cross:
	@for target in android/arm64 ios/arm64; do \
		echo "build for $$target"; \
		CGO_ENABLED=0 GOOS=$${target%/*} GOARCH=$${target#*/} $(GO) build . ./board || exit 1; \
	done; \
	for target in darwin/arm64 windows/amd64 linux/386 linux/arm; do \
		echo "build for $$target"; \
		CGO_ENABLED=0 GOOS=$${target%/*} GOARCH=$${target#*/} $(GO) build . ./board ./cmd/... ./examples/... || exit 1; \
	done

demo:
	$(GO) run ./cmd/smallpantry demo

# System packages that tests use: script, which makes a terminal, and python3, in
# which the other reader of journals is written; curl, for the lines of docs/http.md.
# Without apt-get their tests are skipped.
.PHONY: packages
packages:
	@command -v script >/dev/null || ! command -v apt-get >/dev/null || apt-get install -y bsdutils
	@command -v python3 >/dev/null || ! command -v apt-get >/dev/null || apt-get install -y python3
	@command -v curl >/dev/null || ! command -v apt-get >/dev/null || apt-get install -y curl
