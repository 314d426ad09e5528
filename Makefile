# Echo Lane. `make demo` and `make test` are all that a newcomer needs: each installs what it lacks.
SHELL := /bin/bash
.DEFAULT_GOAL := help

BUILD_PACKAGES := postgresql gcc g++ libc6-dev libjpeg62-turbo-dev libwebp-dev libavif-dev libheif-dev liblcms2-dev libjxl-dev libharfbuzz-dev libicu-dev libwoff-dev fonts-noto-core fonts-noto-cjk fonts-noto-color-emoji
TEST_PACKAGES  := curl woff2 nginx-light chromium chromium-headless-shell fonts-dejavu-core libheif-examples libjpeg-turbo-progs libavif-bin libjxl-tools
BENCH_PACKAGES := nginx-light wrk libheif-examples libjpeg-turbo-progs
PHOTO_PACKAGES := lomiri-wallpapers-16.04 lomiri-wallpapers-20.04 ukui-wallpapers gnome-backgrounds mate-backgrounds
SHOT_PACKAGES  := $(TEST_PACKAGES) xvfb xauth xterm openssl

.PHONY: help demo demo-nodes test test-quick cover bench profile quality-report subject-report face-report matte-report conformance-report corpus fuzz examples reference package package-check unit-check container-check notice screenshots build console binary check clean

help: ## list the targets
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed -E 's/^([a-z-]+):.*## /  \1\t/' | expand -t 22

demo: build ## start the made-up site, its origin, PostgreSQL and the service; Ctrl-C ends all of it
	@bin/echolane demo $(if $(LISTEN),--listen $(LISTEN)) $(if $(ORIGIN),--origin $(ORIGIN))

demo-nodes: build var/tools/versitygw ## the demo with three nodes on one database and one store, behind nginx
	@scripts/need nginx-light openssl
	@scripts/demo-nodes

# Tests are linked without what debuggers read, in half of the time. Those of the service wait more than they work.
test: build var/tools/versitygw var/tools/promtool ## run every test
	@scripts/need $(TEST_PACKAGES)
	@$(MAKE) --no-print-directory check
	go run ./demo/draw
	go test -ldflags=-w -race -p 3 -parallel 4 -skip EveryShape -timeout 20m $$(go list ./service/... | grep -v /confine)
	go test -ldflags=-w ./service/weighing -run EveryShape >var/shapes.txt 2>&1 & shapes=$$!; failed=; \
	go test -ldflags=-w -parallel 4 -timeout 25m $$(go list ./... | grep -v /service/) ./service/workshop/confine || failed=1; \
	wait $$shapes || failed=1; cat var/shapes.txt; test -z "$$failed"

test-quick: ## run what tells most within a minute, for everyday work
	go vet ./core/... ./service/...
	go test -short $$(go list ./... | grep -vE '/(cmd/echolane|conformance|examples|bench.*)$$')

cover: build ## write what the tests reach to var/cover.html
	@scripts/need $(TEST_PACKAGES)
	@mkdir -p var
	go test -timeout 25m -coverpkg ./core/...,./service/... -coverprofile var/cover.out ./core/... ./service/...
	go tool cover -html var/cover.out -o var/cover.html
	@go tool cover -func var/cover.out | tail -1

check: ## formatting, and vet, also for the processors that have assembly of their own
	@test -z "$$(gofmt -l $$(git ls-files -co --exclude-standard '*.go'))" || { echo "not gofmt-ed:"; gofmt -l $$(git ls-files -co --exclude-standard '*.go'); exit 1; }
	go vet ./...
	GOARCH=arm64 CGO_ENABLED=0 go vet $$(go list -f '{{if .SFiles}}{{.ImportPath}}{{end}}' ./...)

bench: build ## measure, and print ratios
	@scripts/need $(BENCH_PACKAGES)
	go run ./bench

profile: build ## measure, and leave a CPU profile of each section in var/profiles
	@scripts/need $(BENCH_PACKAGES)
	go run ./bench -profiles var/profiles

QUALITY_WIDTHS ?= 640 1600
quality-report: ## hold compression against independent measures on photographs, at QUALITY_WIDTHS; writes var/quality-640.html and so on
	@scripts/need $(BUILD_PACKAGES) $(PHOTO_PACKAGES)
	@mkdir -p var
	for w in $(QUALITY_WIDTHS); do go run ./bench/qualityreport -width $$w -resume var/quality-$$w.json var/quality-$$w.html || exit; done

conformance-report: ## write what a browser paints beside what we make, worst first
	@scripts/need $(BUILD_PACKAGES) $(TEST_PACKAGES)
	go run ./conformance/report var/conformance.html

subject-report: ## say how well subjects are found, on photographs and drawn pictures
	@scripts/need $(BUILD_PACKAGES) $(PHOTO_PACKAGES)
	@$(MAKE) --no-print-directory var/debian-data
	go run ./bench/subjects

# Photographs that a package ships in files of resources.
var/debian-data:
	@mkdir -p $@.new && cd $@.new && apt-get download -qq gcompris-qt-data && dpkg-deb -x gcompris-qt-data_*.deb . && rm gcompris-qt-data_*.deb
	@rm -rf $@ && mv $@.new $@

face-report: ## say how well faces are found, and how often where there are none
	@scripts/need $(BUILD_PACKAGES) $(PHOTO_PACKAGES)
	@mkdir -p var/tools && cd var/tools && test -d package || (npm pack --silent @vladmandic/face-api@1.7.15 >/dev/null && tar xzf vladmandic-face-api-1.7.15.tgz)
	go run ./bench/faces var/tools/package/demo

matte-report: ## say how well subjects are cut out, and write a page with the cut-outs
	@scripts/need $(BUILD_PACKAGES)
	go run ./bench/mattes var/mattes.html

corpus: build ## rewrite, weigh, undo every page of the corpus, not only one of each shape
	@scripts/need $(TEST_PACKAGES)
	ECHOLANE_CORPUS=all go test ./service/weighing -run EveryShape -v -timeout 20m

fuzz: ## fuzz every parser for a minute
	@scripts/fuzz

examples: ## make the pictures of docs/parameters.md anew
	@scripts/need $(BUILD_PACKAGES)
	go run ./demo/examples/write

reference: ## make docs/reference.md anew from the commands, the metrics and the log
	go test ./cmd/echolane -run TestTheReferenceIsOfThisCode -write-reference

notice: console/node_modules/.package-lock.json ## write the licences of what goes into the binary
	go run ./internal/notice

screenshots: build ## take docs/screenshots anew
	@scripts/need $(SHOT_PACKAGES)
	@scripts/screenshots

build: ## build the console, bin/echolane and its workers' program
	@scripts/need $(BUILD_PACKAGES)
	@$(MAKE) --no-print-directory console binary

console: console/dist/index.html

# A real object store, for tests and the demo of several nodes.
VERSITYGW := v1.8.0
var/tools/versitygw:
	@mkdir -p var/tools
	GOBIN=$(CURDIR)/var/tools GOFLAGS= go install github.com/versity/versitygw/cmd/versitygw@$(VERSITYGW)

# What writes the Debian package.
NFPM := v2.48.0
var/tools/nfpm:
	@mkdir -p var/tools
	GOBIN=$(CURDIR)/var/tools GOFLAGS= go install github.com/goreleaser/nfpm/v2/cmd/nfpm@$(NFPM)

package: build var/tools/nfpm ## write the Debian package to var/
	@scripts/need dpkg-dev
	@rm -f var/echolane_*.deb
	@scripts/package

unit-check: build ## have the unit run by a systemd of its own
	@scripts/unit-check

package-check: build var/tools/nfpm ## install, start, upgrade, remove and purge the Debian package in a Debian of its own
	@scripts/need dpkg-dev debootstrap
	@scripts/package-check

container-check: build var/tools/nfpm ## build the container, and have it serve
	@scripts/need dpkg-dev debootstrap podman runc curl openssl
	@scripts/container-check

# What holds rules and metrics against Prometheus itself.
var/tools/promtool:
	@scripts/promtool

# The service knows its render workers' program by its sum. That is built without the commit's name, so that it is the same file
# as long as its code is. What is packaged names no folder of the machine that built it; here nothing is trimmed, so that tests,
# which aren't, are compiled from the same cache.
package package-check container-check: export TRIM := -trimpath
binary:
	go build -buildvcs=false $(TRIM) -ldflags "-s -w" -o bin/echolane-worker ./cmd/echolane-worker
	go build -buildvcs=auto $(TRIM) -ldflags "-s -w -X echolane/service/workshop.workerSum=$$(sha256sum <bin/echolane-worker | cut -c1-64)" -o bin/echolane ./cmd/echolane

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && npm ci --no-fund --no-audit
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json console/index.html console/vite.config.ts console/tsconfig.json service/api/openapi.json $(shell find console/src console/public -type f ! -name schema.d.ts)
	rm -rf console/dist/assets
	cd console && npm run build --silent

clean: ## remove what was built; var/ stays
	rm -rf bin console/dist/assets console/dist/index.html console/dist/icon.svg console/node_modules
