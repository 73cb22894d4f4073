# What a fresh Debian machine with Go, Node.js and git needs is installed by the
# targets themselves; a second start redoes nothing.
SHELL := /bin/bash
DEMO_DIR := $(or $(UNDERSAIL_DEMO_DIR),$(CURDIR)/.cache/demo)
# Tools have a module of their own: who starts a demo compiles none of them.
TOOL := go tool -modfile=tools/go.mod
CONSOLE := $(shell find console/src console/index.html console/package.json console/package-lock.json console/vite.config.ts console/tsconfig.json api/openapi.yaml -type f 2>/dev/null)
# The longest packages come first, so that none is waited for alone at the end, and four at
# a time with four tests each: they wait for clouds more than they compute. Vet has run by then, and
# nobody debugs these programs: without symbols each is linked in half of the time.
SUITE := -vet=off -ldflags=-s -timeout 30m -p 4 -parallel 4 ./test ./internal/engine ./internal/proposing ./internal/service ./test/... ./...
VERSION := $(shell git describe --tags --always 2>/dev/null || echo 0.1.0)

.PHONY: demo test test-times test-hard build check bench bench-console chaos attack flood mutants software jobs altering audit real-cloud real-cloud-down test-real-cloud clean generate screenshots

demo: build ## Start everything with demo data; stays in front
	@scripts/packages postgresql
	@exec bin/undersail demo --dir "$(DEMO_DIR)"

test: build check ## Run all static checks and tests
	@scripts/packages postgresql chromium-headless-shell openssh-client
	go test $(SUITE)

test-times: build ## Run all tests anew, and list what takes longest; LEAST=20 lists from so many seconds on
	@scripts/packages postgresql chromium-headless-shell openssh-client
	go test -json -count=1 $(SUITE) | go run ./scripts/times -least $(or $(LEAST),5)

test-hard: build ## Run every moment of the kill matrix, and the detector of races, where things go on at once
	@scripts/packages postgresql openssh-client gcc libc6-dev
	UNDERSAIL_HARD=1 CGO_ENABLED=1 go test -race -count=1 -vet=off -timeout 60m -p 2 -parallel 3 ./internal/engine \
		./internal/proposing ./internal/store ./internal/people ./internal/sealed ./internal/turnstile

build: console/dist/app/index.html ## Build both programs, with the console inside
	go build -ldflags "-s -X main.version=$(VERSION)" -o bin/ ./cmd/...

check: console/node_modules/.done ## Static checks
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo "run gofmt -w on these"; exit 1; }
	go build -C tools -o ../.cache/lint ./lint # it asks everything about a package in one pass
	go vet -vettool=$(CURDIR)/.cache/lint ./...
	go run ./scripts/figures -check
	cd console && npm run --silent check

generate: console/node_modules/.done ## Generate server, client and types from the contract
	go generate ./api
	cd console && npm run --silent generate
	go build -o bin/ ./cmd/undersail
	bin/undersail templates types --markdown > docs/resource-types.md
	scripts/graphs

chaos: ## Change and judge stacks at random, kill, freeze and starve real processes, and compare; ARGS="-sequences 1000 -verdicts 1000 -examples 36 -kills 30 -stacks 40 -pause 1m"
	@scripts/packages postgresql
	@go run ./test/chaos $(ARGS)

attack: build ## Go the ways behind the doors over the network, by everything that the contract, the types and the checks name; ONLY=metrics goes those of that name
	@scripts/packages postgresql
	@set -o pipefail; go test -count=1 -v -timeout 30m -run '^(TestAttacks|TestEveryOperationIsHeld|TestNoPlaceOfASecretIsForgotten|TestWhereEverybodyReadsNoSecretStands|TestTheDestinationIsPartOfAUse|TestTheZeroPermitOpensNothing|TestWhatIsAgreedToIsWhatHappens|TestUndoingByItselfEndsWithTheAgreement|TestAProviderIsAskedAnewAboutItsPeople|TestSecretsFlowFromStackToStack|TestTurnsAreFairUnderExpiry|TestWhatMayBeReached|TestAServiceThatListensEverywhereIsSeenAsOurs|TestANameIsComparedHereAlone|TestTheBoxIsOpenedByOnePackage|TestAnActorComesFromAuthenticationOrAnAgreement)$$/$(ONLY)' \
		./test ./internal/access ./internal/sealed ./internal/service ./internal/proposing ./internal/secrets ./internal/accounts ./internal/turnstile ./internal/reach | sed -nE 's/^ *--- PASS: (.*) \(.*/shut   \1/p; s/^ *--- FAIL: (.*) \(.*/OPEN   \1/p; s/^ +[a-z_]+_test.go:[0-9]+: (.*(places|calls|turns).*)/       \1/p; /^(FAIL|panic)/p'

flood: build ## Attack the built service with 50 clients, three times for a minute and once for ten, and print what an operator notices; ARGS="-clients 50 -rounds 3 -during 1m -lasting 10m"
	@scripts/packages postgresql
	@go run ./test/flood $(ARGS)

mutants: build ## Put small faults into the program, one at a time, and see that a test notices each; ARGS="-seed 23 -n 60 -part core"
	@scripts/packages postgresql openssh-client
	@go run ./test/mutants $(ARGS)

software: console/node_modules/.done ## Write what is shipped, with licences, as CycloneDX JSON, and count the licences
	@scripts/software

# A real OpenStack cloud on a loopback address, of Debian's packages, with its state in .cache.
REAL_CLOUD_DIR := $(or $(REAL_CLOUD_DIR),$(CURDIR)/.cache/real-cloud)

real-cloud: ## Start a real OpenStack cloud on this machine; needs root, 1.1 GB of disk and 3.5 GB of memory
	@REAL_CLOUD_DIR="$(REAL_CLOUD_DIR)" scripts/real-cloud/up

real-cloud-down: ## End it; ARGS=--purge removes its data too
	@REAL_CLOUD_DIR="$(REAL_CLOUD_DIR)" scripts/real-cloud/down $(ARGS)

test-real-cloud: build real-cloud ## Conformance, kills and examples on the real cloud; ARGS="-run Conformance"
	@scripts/packages postgresql
	UNDERSAIL_REAL_CLOUD="$(REAL_CLOUD_DIR)/clouds.yaml" go test -count=1 -v -timeout 3h -p 1 -run 'RealCloud' ./internal/cloud/openstack ./test $(ARGS)

bench: ## Print measured ratios
	@scripts/packages postgresql
	@go run ./test/bench $(ARGS)

bench-console: build ## Print measured ratios of the console in a browser; SIZE="1000 15" for changes and rounds
	@scripts/packages postgresql chromium-headless-shell
	@UNDERSAIL_BENCH_CONSOLE="$(or $(SIZE),1000 15)" go test -count=1 -v -run TestConsoleFigures ./test | grep -v "^=== \|^---\|^PASS"

jobs: build ## Do practitioners' jobs whole: by command line at the pace of 20, and in the console; ONLY=desk does those of that name, PACE=120 is faster
	@scripts/packages postgresql chromium-headless-shell openssh-client
	set -o pipefail; UNDERSAIL_JOBS=all UNDERSAIL_PACE=$(PACE) go test -count=1 -v -timeout 3h -run 'TestWholeJobs/$(ONLY)|TestJobsInTheConsole/$(ONLY)' ./test | grep -v '^=== '

altering: build ## Try every property of every type, and write the table of what altering takes
	@scripts/packages postgresql
	go test -count=1 -timeout 30m -run TestEveryPropertyOfEveryTypeIsAltered ./internal/service -properties.write
	$(MAKE) generate

audit: build ## Ask axe-core about every page, light and dark, wide and narrow
	@scripts/packages postgresql chromium-headless-shell
	UNDERSAIL_AUDIT=whole go test -count=1 -v -run TestEveryPageIsAccessible ./test

screenshots: build ## Take the pictures of docs/screenshots from demo data
	@scripts/packages postgresql chromium-headless-shell xvfb xterm imagemagick fonts-dejavu-core
	UNDERSAIL_SCREENSHOTS=$(CURDIR)/docs/screenshots go test -count=1 -run TestScreenshots ./test/...

clean:
	rm -rf bin .cache console/dist/app console/node_modules

console/node_modules/.done: console/package-lock.json
	cd console && npm ci --no-fund --no-audit && touch node_modules/.done

console/dist/app/index.html: console/node_modules/.done $(CONSOLE)
	cd console && npm run --silent build
