# Vine Scale. "make help" lists what there is.
SHELL := /bin/sh
.DEFAULT_GOAL := help

SERVICE_PACKAGES := postgresql
TEST_PACKAGES    := $(SERVICE_PACKAGES) chromium runc busybox-static dbus xz-utils iproute2 gcc libc6-dev
PEER_PACKAGES    := crun containerd podman libvirt-daemon-system libvirt-daemon-system-sysv libvirt-clients \
                    qemu-system-x86 slurmctld slurmd slurm-client munge \
                    openssh-server openssh-client dbus kmod acpica-tools gcc-12
PICTURE_PACKAGES := chromium xvfb xterm imagemagick fonts-dejavu-core

VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
CONSOLE := internal/console/dist/index.html
SOURCES := $(shell find cmd core internal -name '*.go' -o -name '*.sql')
WEB     := $(shell find web/src web/public -type f) web/index.html web/vite.config.ts
WRAPPED := $(shell git ls-files -- '*.go' '*.sql' '*.proto' '*.c' '*.h' '*.md' Makefile scripts .ci)
SUDO    := $(if $(filter 0,$(shell id -u)),,sudo)

# One way to build for all, so that nothing is compiled twice.
export GOFLAGS := $(GOFLAGS) -trimpath

.PHONY: help build simulated-gpus demo run test test-go test-guest test-root test-web check mutate bench generate \
        screenshots packages peers clean

help: ## list the targets
	@sed -n 's/^\([a-z-]*\):.*## /  make \1\t/p' $(MAKEFILE_LIST) | expand -t 22

build: bin/vinescale ## build bin/vinescale with the console in it

bin/vinescale: $(CONSOLE) $(SOURCES) go.mod go.sum
	go build -ldflags '-X vinescale/internal/cli.Version=$(VERSION)' -o $@ ./cmd/vinescale

$(CONSOLE): web/node_modules/.installed $(WEB)
	cd web && npm run --silent build

web/node_modules/.installed: web/package.json web/package-lock.json
	cd web && npm install --no-audit --no-fund --silent
	@touch $@

simulated-gpus: bin/libvinescale-gpus.so ## build a library of GPUs that tells what a file says, for --gpu-library

bin/libvinescale-gpus.so: internal/gpulibrary/simulated/gpus.c
	@command -v cc >/dev/null || scripts/packages gcc libc6-dev
	@mkdir -p bin
	cc -shared -fPIC -O2 -Wall -o $@ $< -ldl

demo: build ## run the whole product on demo data; Ctrl-C ends it
	@scripts/packages $(SERVICE_PACKAGES)
	@exec bin/vinescale demo

# Where the books of this host are, for run.
DATA ?= $(if $(filter 0,$(shell id -u)),/var/lib/vinescale,$(HOME)/.local/share/vinescale)

run: build ## collect this host and serve its console, for real; Ctrl-C ends it
	@scripts/packages $(SERVICE_PACKAGES)
	@exec bin/vinescale serve --collect --data $(DATA)

# The emulated machine keeps one CPU busy, and the console's own tests run beside it; the last need quiet.
test: packages build test-go ## run every test: core, database, service, console, this kernel
	$(MAKE) --no-print-directory -j2 --output-sync=target test-guest test-web
	$(MAKE) --no-print-directory test-root

packages:
	@scripts/packages $(TEST_PACKAGES)

# Where others hold this machine's CPUs, tests take many times as long: the limits on their time only end what hangs.
test-go:
	scripts/scratched go test -timeout 60m ./...

# What the two targets below work against comes from Debian; where one cannot be had, its test fails in CI and says why
# it is skipped elsewhere.
peers:
	@scripts/packages $(PEER_PACKAGES) || [ -z "$$VINESCALE_REQUIRE_PEERS" ]
	CGO_ENABLED=0 go build -o bin/burner ./internal/real/burner

test-guest: peers
	CGO_ENABLED=0 go test -c -o bin/guest.test ./internal/guest
	scripts/guest-kernel bin/guest-kernel || [ -z "$$VINESCALE_REQUIRE_PEERS" ]
	cd internal/guest && \
		VINESCALE_GUEST_KERNEL=$$(test ! -s ../../bin/guest-kernel/bzImage || echo ../../bin/guest-kernel) \
		VINESCALE_BURNER=../../bin/burner \
		../../scripts/scratched ../../bin/guest.test -test.v -test.run '^TestVersion2$$' -test.timeout 40m

# Tests that count in the kernel, and that start containers and daemons, need root: by sudo where this is not root. The
# first of them have been run as root, by test-go, where it is.
test-root: build peers
	$(if $(SUDO),go test -c -o bin/bpf.test ./internal/kernel/bpf)
	$(if $(SUDO),cd internal/kernel/bpf && $(SUDO) ../../../bin/bpf.test -test.v)
	go test -c -o bin/real.test ./internal/real
	cd internal/real && $(SUDO) env VINESCALE_REQUIRE_ROOT=1 VINESCALE_REQUIRE_PEERS=$$VINESCALE_REQUIRE_PEERS \
		../../bin/real.test -test.v -test.timeout 40m

test-web: web/node_modules/.installed
	cd web && npm test --silent

check: $(CONSOLE) ## static checks: format, width, documents, modules, vet, lint, types, generated files
	@test -z "$$(gofmt -l cmd core internal tools)" || \
		{ echo "not formatted (run gofmt -w):"; gofmt -l cmd core internal tools; exit 1; }
	@go run ./tools/widths $(WRAPPED)
	@bare=$$(go list -f '{{if and (not .Doc) .GoFiles}}{{.ImportPath}}{{end}}' ./...); \
		[ -z "$$bare" ] || { echo "packages without a document (add a doc.go): $$bare"; exit 1; }
	go mod tidy -diff
	go vet ./...
	cd web && npm run --silent lint
	@go run ./cmd/vinescale openapi | diff -q - docs/openapi.json >/dev/null || \
		{ echo "docs/openapi.json is not of these handlers: run make generate"; exit 1; }
	@go run ./cmd/vinescale docs words | diff -q - docs/measures.md >/dev/null || \
		{ echo "docs/measures.md is not of these words: run make generate"; exit 1; }
	@go run ./cmd/vinescale docs folio-schema | diff -q - docs/folio.schema.json >/dev/null || \
		{ echo "docs/folio.schema.json is not of this format: run make generate"; exit 1; }

MUTATED := ./core/account ./core/amount ./core/cpuset ./core/explain ./core/leaf ./core/question ./core/tenancy \
           ./internal/wire ./internal/pack ./internal/kernel/text ./internal/kernel/netlink ./internal/kernel/space \
           ./internal/devices ./internal/gpulibrary

mutate: ## change the code in small ways, and count what the tests notice: MUTATED="./core/cpuset" for some packages
	@test -x bin/gremlins || GOBIN=$(CURDIR)/bin go install github.com/go-gremlins/gremlins/cmd/gremlins@v0.6.0
	@for package in $(MUTATED); do echo "== $$package"; \
		bin/gremlins unleash --workers 2 --timeout-coefficient 5 $$package | \
			grep -vE '^ +(KILLED|TIMED OUT)' || exit 1; done

bench: packages build ## measure cost, as ratios to a floor measured in the same run
	CGO_ENABLED=0 go build -o bin/burner ./internal/real/burner
	go test -c -o bin/real.test ./internal/real
	cd internal/real && $(SUDO) env VINESCALE_REQUIRE_ROOT=1 \
		../../bin/real.test -test.run '^$$' -test.bench Tick -test.benchtime 3s -test.timeout 10m
	cd internal/real && $(SUDO) env VINESCALE_REQUIRE_ROOT=1 \
		../../bin/real.test -test.run '^$$' -test.bench Switch -test.benchtime 12s -test.timeout 10m
	go test -run '^$$' -bench . -benchtime 2s -timeout 20m ./core/account ./internal/kernel ./internal/store
	go test -run '^$$' -bench . -benchtime 3x -timeout 40m ./internal/crowd
	go test -run '^$$' -bench . -benchtime 1x -timeout 10m ./internal/e2e

generate: web/node_modules/.installed ## make the generated files anew: wire format, API description, its types
	@scripts/packages protobuf-compiler clang-16 llvm-16 libbpf-dev
	BPF2GO_CFLAGS='-O2 -g -Wall -mcpu=v3 -I/usr/include/x86_64-linux-gnu' go generate ./internal/kernel/bpf
	go build -o bin/protoc-gen-go google.golang.org/protobuf/cmd/protoc-gen-go
	protoc --plugin=bin/protoc-gen-go --go_out=. --go_opt=module=vinescale internal/wire/interval.proto
	go run ./cmd/vinescale openapi > docs/openapi.json
	go run ./cmd/vinescale docs words > docs/measures.md
	go run ./cmd/vinescale docs folio-schema > docs/folio.schema.json
	cd web && npm run --silent types

screenshots: build ## take docs/screenshots anew (uses port 7470)
	@scripts/packages $(SERVICE_PACKAGES) $(PICTURE_PACKAGES)
	go run ./tools/screenshots docs/screenshots

clean: ## remove what was built
	rm -rf bin internal/console/dist web/node_modules
	mkdir -p internal/console/dist && touch internal/console/dist/.gitkeep
