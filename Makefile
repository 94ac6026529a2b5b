# make test   all tests, with the tools they need
# make build  the program, as bin/nightdrill
# make shots  the pictures in docs/screenshots
# make gate   the demo's drill with its budgets, which must be met
# make lint   vet, staticcheck, and vet for macOS
# make install  the program, its manual pages and completions, below PREFIX (/usr/local)
# make man    the manual pages, in man/
# make release  archives, Debian packages, lists of what is in them, and checksums, in dist/
# make arm64  the tests of the core and of the project file on Linux arm64, under emulation
# make reference  docs/reference, from the commands, the schema, the types and the words
# make licences  docs/licences.md, from the modules the program is made of
# make vulnerable  known vulnerabilities in what the program calls; asks a database on the network
# make keys  docs/keys.md, from the keys of the views
# make drawing  the drawing in docs/ARCHITECTURE.md
# make benchonce  each benchmark once, so that none rots
# make bench  the figures that have a bar, beside those last recorded; RECORD=1 keeps them in bench/figures.json


PREFIX ?= /usr/local
export SOURCE_DATE_EPOCH ?= $(shell git log -1 --format=%ct 2>/dev/null || echo 0)

.PHONY: arm64 reference release licences vulnerable keys drawing man install test build shots gate lint bench benchonce

test:
	@scripts/need tmux pgrep
	@cd internal/live/broker/testdata/npm; [ -d node_modules ] || ! command -v npm >/dev/null || npm ci --silent || true
	go test -timeout 25m ./...
	go test -tags brokenrules -run Broken ./internal/core/engine

build:
	go build -o bin/nightdrill ./cmd/nightdrill

man:
	go run ./scripts/man man

install: man
	go build -trimpath -ldflags '-s -w' -o bin/nightdrill ./cmd/nightdrill
	install -d $(DESTDIR)$(PREFIX)/bin $(DESTDIR)$(PREFIX)/share/man/man1
	install bin/nightdrill $(DESTDIR)$(PREFIX)/bin/
	install -m 644 man/*.1 $(DESTDIR)$(PREFIX)/share/man/man1/
	install -d $(DESTDIR)$(PREFIX)/share/bash-completion/completions $(DESTDIR)$(PREFIX)/share/zsh/site-functions \
		$(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d
	bin/nightdrill completion bash > $(DESTDIR)$(PREFIX)/share/bash-completion/completions/nightdrill
	bin/nightdrill completion zsh > $(DESTDIR)$(PREFIX)/share/zsh/site-functions/_nightdrill
	bin/nightdrill completion fish > $(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d/nightdrill.fish

gate: build
	scripts/gate

release:
	scripts/release

licences:
	go run ./scripts/licences > docs/licences.md

reference:
	go run ./scripts/reference docs/reference

vulnerable:
	go tool -modfile=tools.mod govulncheck ./...

lint:
	go run ./scripts/licences | cmp - docs/licences.md
	@rm -rf bin/reference; go run ./scripts/reference bin/reference && diff -r bin/reference docs/reference
	go run ./scripts/architecture | cmp - docs/architecture.svg
	go vet ./...
	GOOS=darwin GOARCH=arm64 go vet ./...
	go tool staticcheck ./...

bench:
	@go run ./scripts/bench $(if $(RECORD),-record)

benchonce:
	go test -short -run '^$$' -bench . -benchtime 1x ./...

keys:
	NIGHTDRILL_WRITE_DOCS=1 go test -count 1 -run TestTheKeysAreWrittenDown ./internal/tui

drawing:
	go run ./scripts/architecture > docs/architecture.svg

shots: build
	@scripts/need Xvfb xterm xdotool import
	scripts/shots

arm64:
	@scripts/need qemu-aarch64-static
	CGO_ENABLED=0 GOARCH=arm64 go test -short -exec qemu-aarch64-static ./internal/core/... ./internal/project
