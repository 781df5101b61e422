# East Porch: make help lists the targets.
.DEFAULT_GOAL := help
SHELL := bash
.SHELLFLAGS := -o pipefail -c
BIN := bin/eastporch
CHECKS := go tool -modfile=tools/checks/go.mod
WEB_SOURCES := $(shell find web/src web/public -type f) web/index.html web/vite.config.ts web/package-lock.json api/openapi.yaml
GO_SOURCES := $(shell find api cmd internal porch -name '*.go' -o -path 'internal/*' -type f -not -path '*/webui/dist/*') go.mod go.sum

.PHONY: help
help: ## List the targets
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 14

.PHONY: demo
demo: ## Set up what is missing, build, and run the Heron Lake Regatta until Ctrl-C
	@scripts/setup.sh demo
	@$(MAKE) --no-print-directory build
	@exec $(BIN) demo

# timed runs a part of the tests and prints how long it took, and how much of that by the processor.
timed = @TIMEFORMAT="==== $(1): %0R s, %0U + %0S s of the processor"; time { $(2); }
# Only what hangs meets this limit: no package takes a ninth of it here. A test that meets it is named.
GOTEST := go test -timeout 30m
# What is built is found again in another clone.
export GOFLAGS := -trimpath
# The service's binary for the tests that start it, which would build it anew.
export EASTPORCH_TEST_BINARY := $(CURDIR)/$(BIN)
# raced are the packages in which things run at once.
raced = $$(scripts/raced.sh)
# long are tests of one goroutine that take long with the race detector, and run without it.
long := NoFeedSpeaksForOthers|FeedsAreAskedForSeldom|ObjectsOfAllSizes|QuickPairsAgree|AnExportSaysTheSame|EditionSaysWhatTheTableSaid|SpansAndSamplesAgree|TheMostSpecificRangeWins|TooManyRangesThatCross|ABombIsNotUnpacked|AnImportTakesLittleMemory|FullSetFitsIn65MB|CountsSayWhatRowsSay|AHostileWeek|MadeUpNamesAreBounded|ManyVisits|ClicksAreCountedByLink|LinesOfAGeofeedStandAlone|SpansAgainstCounting|DenseNumbersAgreeWithAnArray|AgreesWithAScan|ExportsAreGuardedAndDoNotLookWhole|DescribeKnowsTheForm|EveryFlippedBitIsFoundOrHarmless
withlong = $$(grep -lE 'func Test\w*($(long))' -r --include='*_test.go' internal | xargs -n1 dirname | sort -u | sed 's|^|eastporch/|' | grep -xF "$(raced)")

.PHONY: test
test: ## Set up what is missing, check the code and run all tests, with the race detector where things run at once
	$(call timed,set-up,scripts/setup.sh test)
	$(call timed,build,$(MAKE) --no-print-directory build)
	$(call timed,checks,$(MAKE) --no-print-directory check)
	$(call timed,console and packages,$(MAKE) --no-print-directory -j2 --output-sync test-console test-packages)
	$(call timed,packages with the race detector,$(GOTEST) -race -short -skip '$(long)' $(raced))
	$(call timed,the binary,$(GOTEST) -p 1 -parallel 3 ./internal/e2e/...)

# Neither of the two keeps two processors busy.
.PHONY: test-console
test-console:
	cd web && npm run --silent test

.PHONY: test-packages
test-packages:
	$(GOTEST) $$(go list ./... | grep -vE 'internal/(e2e/|meta$$)' | grep -vxF "$(raced)")
	$(GOTEST) -run '$(long)' $(withlong)

.PHONY: test-quick
test-quick: web/node_modules/.ready ## Test what differs from the newest commit, or from another: make test-quick BASE=…
	@scripts/quick.sh $(BASE)

.PHONY: check
check: web/node_modules/.ready ## Formats, linters, types, generated files, layers
	@$(MAKE) --no-print-directory -j2 --output-sync check-code check-console
	go test ./internal/meta
	@scripts/sizes.sh

.PHONY: check-code
check-code: generated
	go vet ./...
	$(CHECKS) staticcheck ./...
	@for module in tools/bench tools/parquetfiles; do (cd $$module && go vet ./...) || exit 1; done
	@test -z "$$($(CHECKS) gofumpt -l api cmd internal porch tools)" || { echo "These files are not formatted; run make format:"; $(CHECKS) gofumpt -l api cmd internal porch tools; exit 1; }

.PHONY: check-console
check-console: web/node_modules/.ready
	cd web && npm run --silent lint && npm run --silent format:check && npm run --silent types

.PHONY: generated
generated: web/node_modules/.ready internal/server/webui/dist/index.html
	@cd web && npx --no-install openapi-typescript ../api/openapi.yaml -o /tmp/eastporch-schema.$$$$.d.ts >/dev/null \
		&& { cmp -s /tmp/eastporch-schema.$$$$.d.ts src/api/schema.d.ts || { echo "web/src/api/schema.d.ts is stale: run make generate"; exit 1; }; rm -f /tmp/eastporch-schema.$$$$.d.ts; }
	@sha256sum --quiet --check tools/gendata/made.sha256 || { echo "The tables are not what tools/gendata makes: run make data"; exit 1; }
	@go run ./tools/contract --check
	@cd web && node porch.mjs --check
	@go run ./tools/notice --check

.PHONY: generate
generate: web/node_modules/.ready ## Make the types of Go, the console and the page script from the contract, and NOTICE
	go run ./tools/contract
	cd web && npm run --silent generate && node porch.mjs
	@$(MAKE) --no-print-directory internal/server/webui/dist/index.html
	go run ./tools/notice

.PHONY: data
data: tools/gendata/node_modules/.ready ## Make the almanac's and the gazetteer's tables from open data
	cd tools/gendata && node gen.mjs

.PHONY: data-check
data-check: tools/gendata/node_modules/.ready ## Make those tables again, and fail where one would change
	cd tools/gendata && node gen.mjs --check

.PHONY: parquetfiles
parquetfiles: ## Write the Parquet files of the tests anew, with two other writers
	cd tools/parquetfiles && npm ci --no-audit --no-fund --loglevel=error
	cd tools/parquetfiles && go run . ../../internal/editions/testdata && node write.mjs ../../internal/editions/testdata

.PHONY: format
format: web/node_modules/.ready ## Format all sources
	$(CHECKS) gofumpt -w api cmd internal porch tools
	cd web && npm run --silent format

.PHONY: build
build: $(BIN) ## Build the console and the binary that serves it

$(BIN): internal/server/webui/dist/index.html $(GO_SOURCES)
	go build -ldflags '-s -w' -o $@ ./cmd/eastporch

internal/server/webui/dist/index.html: web/node_modules/.ready $(WEB_SOURCES)
	cd web && npm run --silent build -- --logLevel warn

%/node_modules/.ready: %/package-lock.json
	scripts/modules.sh $*
	@touch $@

ROUNDS ?= 5
.PHONY: bench
bench: ## Run the benchmarks, in rounds so that what is compared takes turns, and print the promised ratios; it fails where one does not run
	@for round in $$(seq $(ROUNDS)); do \
	  go test -run '^$$' -bench . -skip Tails -benchtime 0.3s -benchmem ./internal/core/... ./internal/server/access ./internal/server/httpapi; \
	  go test -run '^$$' -bench 'Build|Open$$' -benchtime 1x -benchmem ./internal/editions; \
	  go test -run '^$$' -bench OpenData -benchtime 1x ./internal/editions; \
	  go test -run '^$$' -bench ManyPoints -benchtime 1x ./internal/editions; \
	  go test -run '^$$' -bench . -benchtime 6x ./internal/server/store; \
	  go test -run '^$$' -bench . -benchtime 1x ./internal/server; \
	  (cd tools/bench && go test -run '^$$' -bench . -benchtime 0.3s -benchmem .); \
	done | go run ./tools/benchratios

.PHONY: tails
tails: ## Measure how long the slowest wait at several loads, and draw it
	go test -run '^$$' -bench Tails -benchtime 1x ./internal/server/httpapi | go run ./tools/tails docs/performance.png

.PHONY: soak
soak: build ## Cause every fault 50 times, send odd requests for an hour, and load ten million visits; it takes some hours
	go test ./internal/e2e/answers -run EveryOperationSurvives -fuzz-for 1h -timeout 3h -v | grep -E "operations|answers|^(---|ok|FAIL)"
	go test ./internal/e2e/faults -run Fault -rounds 50 -stops 200 -waiting 1000000 -timeout 5h -v | grep -E "acknowledged|accepted in|stops:|to listen|^(---|ok|FAIL)"
	$(MAKE) --no-print-directory data-check
	go run ./tools/mutants
	go test ./internal/server/store -run "ManyVisits|HostileWeek" -visits 10000000 -hostile 200000 -timeout 5h -v

.PHONY: screenshots
screenshots: ## Take the pictures of docs/screenshots from a running demo: make screenshots LINK=…
	go run ./tools/screenshots --link "$(LINK)"

.PHONY: clean
clean: ## Remove what was built
	rm -rf bin web/node_modules tools/gendata/node_modules tools/parquetfiles/node_modules
	find internal/server/webui/dist -mindepth 1 -not -name placeholder.txt -delete
