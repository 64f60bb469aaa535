# Humble Rewind. "make help" lists what can be made.
SHELL := bash
.SHELLFLAGS := -eu -o pipefail -c
VERSION := $(shell git describe --always --dirty 2>/dev/null || echo unknown)
BINARY := bin/humble-rewind
CONSOLE := $(shell find console/src console/public -type f) console/index.html console/vite.config.ts console/package.json console/compress.mjs
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)

.PHONY: help
help: ## list the targets
	@awk -F ':.*## ' '/^[a-z-]+:.*## / {printf "  %-12s %s\n", $$1, $$2}' Makefile

.PHONY: build
build: console/dist/index.html ## build the program with its console to bin/humble-rewind
	CGO_ENABLED=0 go build -trimpath -ldflags "-s -w -X main.version=$(VERSION)" -o $(BINARY) ./cmd/humble-rewind

.PHONY: demo
demo: build ## build the sample world of Alder Quay Boatyard and serve it
	$(BINARY) demo --dir demo-data

.PHONY: test
test: deps build lint ## install what the tests need, build, and run all tests
	cd console && npm test --silent
	go tool gotestsum --format pkgname -- -timeout 20m ./... # which names at its end what was skipped, and why

.PHONY: corpus
corpus: ## play losses with known answers and print how many are answered right, beside two naive choosers
	go test -c -o bin/corpus.test ./internal/corpus
	bin/corpus.test -test.run 'Corpus|LostFolder' -table

SCALE := 1
.PHONY: bench
bench: build ## measure against the system's own tools; SCALE=0.1 makes all sizes a tenth
	go build -o bin/bench ./internal/bench
	bin/bench -scale $(SCALE) $(if $(filter 1,$(SCALE)),-write docs/measurements.md) $(BINARY)

.PHONY: generate
generate: console/node_modules/.package-lock.json ## generate the code that api/openapi.yaml describes
	go generate ./api
	cd console && npm run types --silent

.PHONY: lint
lint: console/node_modules/.package-lock.json ## check format, types and style
	@unformatted=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$unformatted" ] || { echo "not formatted: $$unformatted"; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd console && npm run lint --silent && npx --no-install tsc --noEmit

FUZZ := internal/core/entry:FuzzParseMark internal/core/place:FuzzPlace internal/core/typedtime:FuzzParse internal/core/names:FuzzFold internal/core/peek:FuzzLook \
	internal/source/trash:FuzzParseRecord internal/source/trash:FuzzSizes internal/registry:FuzzPasswd \
	internal/core/datedname:FuzzInfer internal/core/userdirs:FuzzParse internal/core/diff:FuzzOf internal/core/compare:FuzzOf internal/core/condition:FuzzExamine internal/core/condition:FuzzJPEG internal/core/condition:FuzzSqueeze internal/core/pdf:FuzzStreams internal/core/document:FuzzRead internal/core/stray:FuzzParse \
	internal/core/sighting:FuzzRef internal/core/remark:FuzzRemark internal/core/exclude:FuzzBy internal/reach:FuzzParseAddress internal/source/archive:FuzzArchives \
	internal/catalogue/block:FuzzDecode internal/catalogue/names:FuzzUnpackNames internal/catalogue/spans:FuzzUnpackKeys internal/catalogue/rows:FuzzUnpackBatch internal/source/history:FuzzLog internal/core/refs:FuzzRefs internal/core/multistatus:FuzzMultistatus internal/reach/dav:FuzzResources internal/reach/rights:FuzzReadList \
	internal/core/disk:FuzzFAT internal/core/disk:FuzzExFAT internal/core/disk:FuzzExt internal/core/disk/table:FuzzTable internal/core/signature:FuzzLength
FUZZTIME := 30s
.PHONY: fuzz
fuzz: ## fuzz every parser, FUZZTIME each (30s; 10m before a release)
	for target in $(FUZZ); do go test "./$${target%%:*}" -run '^$$' -fuzz "^$${target##*:}\$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 100x; done

.PHONY: screenshots
screenshots: build ## take the pictures in docs/screenshots anew (needs make deps)
	docs/screenshots/take $(BINARY)

.PHONY: deps
deps: ## install what tests and screenshots need from Debian's packages
	@missing=; for p in chromium libglib2.0-bin btrfs-progs xvfb xterm imagemagick libarchive-tools xz-utils zstd bzip2 git apache2 apache2-utils litmus cadaver mtools dosfstools exfatprogs exfat-fuse e2fsprogs; do dpkg -s $$p >/dev/null 2>&1 || missing="$$missing $$p"; done; \
	if [ -n "$$missing" ]; then $(SUDO) apt-get update -qq && DEBIAN_FRONTEND=noninteractive $(SUDO) apt-get install -y -qq --no-install-recommends $$missing fonts-dejavu-core >/dev/null; fi

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	touch $@

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE)
	cd console && npm run build --silent
	touch console/dist/.keep
