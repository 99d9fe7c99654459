# Everything sets itself up: the first call installs what it needs (.NET SDK 10, Node 20 and apt as root are there).
SHELL := /bin/bash
CLI := .build/cli/rovett.dll
SERVICE := tests/Rovett.Service.Tests/bin/Release/net10.0/Rovett.Service.Tests.dll
TESTS := Rovett.Core.Tests Rovett.Service.Tests Rovett.EndToEnd Rovett.Faults
PAGES := clients/typescript/dist/index.js console/dist/index.html demo/crew/dist/index.html
SOURCES := $(shell find src demo/scenario.yaml demo/policies.yaml demo/rules.yaml demo/intakes.yaml docs/rules.schema.json docs/problems.md docs/conformance -name obj -prune -o -name bin -prune -o -type f -print)


.PHONY: help build demo demo-cluster test test-postgres test-nodes simulate prove fuzz corebench lint bench packages clean tools
help: ## Say what can be made
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 16

build: $(CLI) ## Build the service, the command line and the pages

node_modules/.package-lock.json: package.json package-lock.json
	# Not "npm ci": it wants every platform's optional packages in the lock, and a registry may lack some.
	npm install --no-save --no-progress
	@touch $@

$(PAGES) &: node_modules/.package-lock.json $(shell find clients/typescript console demo/crew -name dist -prune -o -name build -prune -o -name node_modules -prune -o -type f -print)
	npm run build

$(CLI): $(PAGES) $(SOURCES) Directory.Build.props Directory.Packages.props
	# Analysed when everything is built for the tests.
	dotnet publish src/Rovett.Cli -c Release --use-current-runtime -p:RunAnalyzers=false -o .build/cli -v quiet --nologo
	@touch $@

demo: build ## A working day at Marrow Sound Ferries, checked as it goes on, with pages to look at
	./rovett demo

demo-cluster: build tools ## Three nodes with one PostgreSQL behind a Caddy: one is killed, one paused, one drained; nobody misses anything
	./rovett demo --cluster

# What tests need beside the code: proxies, a browser, a C compiler for the power-cut layer, PostgreSQL, brokers, and what runs the snippets.
tools:
	@missing=""; for p in nginx haproxy caddy chromium gcc ip php ruby python3 curl redis-server pgbouncer; do command -v $$p >/dev/null || missing="$$missing $$p"; done; \
	ls -d /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing="$$missing postgresql"; \
	test -x /usr/lib/rabbitmq/bin/rabbitmq-server || missing="$$missing rabbitmq-server"; \
	if [ -n "$$missing" ]; then echo "installing$$missing"; (apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq $$(echo "$$missing" | sed "s/gcc/gcc libc6-dev/; s/ ip\b/ iproute2/; s/ php\b/ php-cli/")) >/dev/null || exit 1; fi

test: build tools ## Build everything, check its style, and run all tests
	npx biome check clients console demo
	npm run --silent types
	node clients/typescript/size.mjs
	npm test --silent -w clients/typescript
	dotnet build Rovett.slnx -c Release -v quiet --nologo
	dotnet format whitespace . --folder --verify-no-changes --exclude node_modules --exclude .build
	dotnet tests/Rovett.Fuzz/bin/Release/net10.0/Rovett.Fuzz.dll 20000
	# A thread of the PostgreSQL driver may outlive its tests by seconds, which the runner does not wait for: their summary counts.
	@set -o pipefail; failed=""; for t in $(TESTS); do echo "== $$t"; \
	threads=default; test $$t != Rovett.Service.Tests || threads=2x; \
	dotnet tests/$$t/bin/Release/net10.0/$$t.dll -noColor -noLogo -maxThreads $$threads 2>&1 | tee .build/$$t.log || failed="$$failed $$t"; done; \
	echo "== Rovett.Service.Tests on PostgreSQL, a third of the classes, another one each day"; \
	third=$$(dotnet $(SERVICE) -list classes -noLogo | awk -v day=$$(($$(date +%s) / 86400 % 3)) 'NF && ++n % 3 == day { print "-class", $$0 }'); \
	ROVETT_TEST_HOME=postgres dotnet $(SERVICE) -trait- "home=folder" $$third -noColor -noLogo -maxThreads 2x 2>&1 | tee .build/Postgres.log \
	|| grep -q "Errors: 0, Failed: 0," .build/Postgres.log || failed="$$failed Postgres"; \
	echo "== Rovett.Service.Tests with another node that serves, some of the classes, others each day"; \
	set -- "LiveTests" "LongPollTests SessionTests RevocationTests SayTests" "TopicTests" "PresenceTests AccessTests"; \
	eval "some=\$$$$(($$(date +%s) / 86400 % 4 + 1))"; \
	ROVETT_TEST_HOME=nodes dotnet $(SERVICE) -trait- "home=folder" $$(printf -- "-class *.%s " $$some) -noColor -noLogo -maxThreads 3x 2>&1 | tee .build/Nodes.log \
	|| grep -q "Errors: 0, Failed: 0," .build/Nodes.log || failed="$$failed Nodes"; \
	for t in $$failed; do echo "== $$t failed"; grep -A 30 '\[FAIL\]' .build/$$t.log; done; \
	for t in $$failed; do grep -hA 1 '\[FAIL\]' .build/$$t.log | cut -c1-700; done; test -z "$$failed"

test-postgres: build tools ## Run the tests of the service on PostgreSQL in place of a data folder
	dotnet build tests/Rovett.Service.Tests -c Release -v quiet --nologo
	ROVETT_TEST_HOME=postgres dotnet $(SERVICE) -trait- "home=folder" -noColor -noLogo

test-nodes: build tools ## Run the tests of live sessions where another node serves their space
	dotnet build tests/Rovett.Service.Tests -c Release -v quiet --nologo
	ROVETT_TEST_HOME=nodes dotnet $(SERVICE) -trait- "home=folder" $$(printf -- "-class *.%s " LiveTests LongPollTests SessionTests RevocationTests SayTests TopicTests PresenceTests AccessTests) -noColor -noLogo -maxThreads 3x

SEEDS := 1..1000
simulate: ## Judge simulated worlds by their seeds: make simulate SEEDS=1..10000
	dotnet run -c Release --project tests/Rovett.Simulator -- $(SEEDS)

KILLS := 505
CUTS := 1500
prove: build tools ## Kill the service and cut its power hundreds of times: make prove KILLS=505 CUTS=1500
	dotnet build tests/Rovett.Faults -c Release -v quiet --nologo
	ROVETT_INTAKE_EVENTS=10000 ROVETT_INTAKE_CUTS=50 ROVETT_BACKEND_KILLS=100 ROVETT_KILLS=$(KILLS) ROVETT_KILL_SENDS=1980 ROVETT_CUTS=$(CUTS) dotnet tests/Rovett.Faults/bin/Release/net10.0/Rovett.Faults.dll -noColor -noLogo -diagnostics

COUNT := 10000000
fuzz: ## Feed every parser broken input: make fuzz COUNT=10000000
	dotnet run -c Release --project tests/Rovett.Fuzz -- $(COUNT)

corebench: ## Measure the core by itself, with allocations
	dotnet run -c Release --project bench/Rovett.CoreBench

lint: node_modules/.package-lock.json ## Put the code into shape
	dotnet format Rovett.slnx
	npx biome check --write clients console demo

bench: build ## Measure, and write docs/performance.md
	dotnet run -c Release --project bench/Rovett.Bench

packages: build ## Archives and Debian packages of the service, packages of the clients and of the command line, a list of parts
	command -v zip >/dev/null || (apt-get update -qq && apt-get install -y -qq zip unzip >/dev/null)
	packaging/make.sh

clean: ## Remove everything built
	rm -rf .build clients/typescript/dist clients/typescript/build console/dist demo/crew/dist node_modules
	find src tests bench -name bin -o -name obj | xargs rm -rf
