# make test   all tests, with the tools they need
# make build  the program, as bin/nightdrill
# make shots  the pictures in docs/screenshots
# make gate   the demo's drill with its budgets, which must be met
# make lint   vet, staticcheck, and vet for macOS
# make keys  docs/keys.md, from the keys of the views
# make drawing  the drawing in docs/ARCHITECTURE.md
# make benchonce  each benchmark once, so that none rots
# make bench  the bars of docs/performance.md, as ratios with their spread

.PHONY: keys drawing test build shots gate lint bench benchonce

test:
	@scripts/need tmux pgrep
	go test ./...
	go test -tags brokenrules -run Broken ./internal/core/engine

build:
	go build -o bin/nightdrill ./cmd/nightdrill

gate: build
	scripts/gate

lint:
	go run ./scripts/architecture | cmp - docs/architecture.svg
	go vet ./...
	GOOS=darwin go vet ./...
	go tool staticcheck ./...

bench:
	go test -run '^$$' -bench . -benchtime 1x -v ./internal/session
	go test -run '^$$' -bench Change -benchtime 40x ./internal/session
	go test -run '^$$' -bench "AddInstance|Sample" -benchtime 40x ./internal/live/runner
	go test -run '^$$' -bench . ./internal/core/... ./internal/store ./internal/tui/...

benchonce:
	go test -run '^$$' -bench . -benchtime 1x ./...

keys:
	NIGHTDRILL_WRITE_DOCS=1 go test -count 1 -run TestTheKeysAreWrittenDown ./internal/tui

drawing:
	go run ./scripts/architecture > docs/architecture.svg

shots: build
	@scripts/need Xvfb xterm xdotool import
	scripts/shots
