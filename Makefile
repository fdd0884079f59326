# make demo | test | conformance | contracts | soak | bench | attack | audit | sbom | console | lint | clean
PORT ?= 8460
ENGINE ?= sqlite
SHELL := /bin/bash
SOAKED := FullyQualifiedName~RoundTrip|FullyQualifiedName~RandomChanges|FullyQualifiedName~MutatedBodies
SOAKED := $(SOAKED)|FullyQualifiedName~KillTests|FullyQualifiedName~RandomRest|FullyQualifiedName~NamedQuery

.PHONY: demo test conformance contracts soak bench attack audit sbom console lint tools clean demo-data

# ENGINE=postgresql or ENGINE=mariadb serves the same rows from a server of its own.
demo: tools console demo-data
	@scripts/demo-accounts
	@scripts/demo-revision
	@if [ "$(ENGINE)" = sqlite ]; then exec ./gable serve demo --port $(PORT); else exec scripts/demo-engine $(ENGINE) $(PORT); fi

demo-data: tools
	@test -e demo/data/network.db -a -e demo/data/lab.db || dotnet run --project demo/generator -c Release -v quiet -- demo/data

console: tools
	@scripts/build-console

test: tools
	@scripts/test

# Writes docs/conformance.md from the attributes of the tests; 'make test' checks it.
conformance: tools
	@GABLE_WRITE=1 dotnet test tests/RapidGable.Service.Tests -c Release --nologo --filter FullyQualifiedName~ConformanceTests

# Writes console/src/api/contracts.ts from the messages of the management interface; 'make test' checks it.
contracts: tools
	@GABLE_WRITE=1 dotnet test tests/RapidGable.Service.Tests -c Release --nologo --filter FullyQualifiedName~ContractTypesTests

# The random tests with twenty times as many cases.
soak: tools
	@scripts/need-postgresql && scripts/need-mariadb
	GABLE_SOAK=20 dotnet test tests/RapidGable.Core.Tests -c Release --filter "FullyQualifiedName~Random"
	GABLE_SOAK=20 dotnet test tests/RapidGable.Service.Tests -c Release --filter "$(SOAKED)"

# ONLY="load sqlite newest" measures a part of it in under two minutes, and writes no table; ONLY="before=PATH/gable.dll load" compares with another build.
bench: tools console demo-data
	@scripts/bench $(ONLY)

# The project's own attacks on all three engines, then tools of Debian that try to inject SQL and to hold connections, against the demo; under ten minutes.
# 'make test' runs the first part in a short form.
attack: tools demo-data
	@scripts/attack

# Whether packages that are used have known faults.
audit: tools
	@scripts/audit

# What the service and the console are made of, as CycloneDX documents in artifacts/sbom.
sbom: tools
	@scripts/sbom

lint: tools
	@scripts/lint

tools:
	@scripts/need-tools

clean:
	rm -rf artifacts console/dist console/node_modules demo/data
