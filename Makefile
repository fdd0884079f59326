# make demo | test | soak | bench | attack | console | lint | clean
PORT ?= 8460
SHELL := /bin/bash

.PHONY: demo test soak bench attack console lint tools clean demo-data

demo: tools console demo-data
	@scripts/demo-accounts
	@./gable serve demo --port $(PORT)

demo-data: tools
	@test -e demo/data/network.db -a -e demo/data/lab.db || dotnet run --project demo/generator -c Release -v quiet -- demo/data

console: tools
	@scripts/build-console

test: tools
	@scripts/test

# The random tests with twenty times as many cases.
soak: tools
	@scripts/need-postgresql && scripts/need-mariadb
	GABLE_SOAK=20 dotnet test tests/RapidGable.Core.Tests -c Release --filter "FullyQualifiedName~Random"
	GABLE_SOAK=20 dotnet test tests/RapidGable.Service.Tests -c Release --filter "FullyQualifiedName~RoundTrip|FullyQualifiedName~RandomChanges|FullyQualifiedName~MutatedBodies"

# ONLY="load sqlite expand" measures a part of it, and writes no table.
bench: tools console demo-data
	@scripts/bench $(ONLY)

# Tools of Debian that try to inject SQL and to hold connections, against the demo; some minutes.
attack: tools demo-data
	@scripts/attack

lint: tools
	@scripts/lint

tools:
	@scripts/need-tools

clean:
	rm -rf artifacts console/dist console/node_modules demo/data
