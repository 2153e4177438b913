# The commands of this project. `make test` is all that a fresh machine with Go
# needs: it installs the system packages that tests use where they are missing.

GO ?= go

.PHONY: test race lint demo

test: packages
	$(GO) test ./...

# Packages whose code runs in several goroutines.
race:
	$(GO) test -race . ./internal/... ./server ./board

lint:
	@test -z "$$(gofmt -l . | tee /dev/stderr)" || { echo "gofmt: the files above need it" >&2; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	$(GO) mod tidy -diff

demo:
	$(GO) run ./cmd/smallpantry demo

# No test needs a system package yet.
.PHONY: packages
packages:
