# The habits: make demo test bench lint fmt screenshots build. See CONTRIBUTING.md.
SHELL := /bin/bash -o pipefail
VERSION ?= 0.1.0-dev
GOFLAGS_BUILD := -trimpath -ldflags "-s -w -X main.version=$(VERSION)"
SEED ?= 1

.PHONY: demo tour test race bench lint fmt screenshots build release generate check-generated tools soak clean

# build: the one static binary, with the console inside.
build: web/dist/index.html
	CGO_ENABLED=0 go build -tags console $(GOFLAGS_BUILD) -o bin/fado ./cmd/fado

# release: as build, for both machines; it fails when the console is not built.
release: web/dist/index.html
	CGO_ENABLED=0 GOOS=linux GOARCH=amd64 go build -tags console $(GOFLAGS_BUILD) -o bin/fado-linux-amd64 ./cmd/fado
	CGO_ENABLED=0 GOOS=linux GOARCH=arm64 go build -tags console $(GOFLAGS_BUILD) -o bin/fado-linux-arm64 ./cmd/fado

demo: build
	exec ./bin/fado demo

tour: build
	./bin/fado demo --tour

# tools: what tests and pictures need and a fresh machine may lack.
tools: web/node_modules/.installed
	@missing=""; for t in chromium:chromium gcc:gcc dbus-daemon:dbus-daemon ip:iproute2 mosquitto:mosquitto mosquitto_ctrl:mosquitto openssl:openssl; do command -v $${t%%:*} >/dev/null || missing="$$missing $${t##*:}"; done; \
	/usr/bin/python3 -c 'import dbusmock' 2>/dev/null || missing="$$missing python3-dbusmock"; \
	if [ -n "$$missing" ]; then \
	  if [ "$$(id -u)" = 0 ]; then echo "Installing Debian's$$missing …"; apt-get update -qq && apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	  else echo "These Debian packages are missing:$$missing. Run «make tools» as root, or: apt-get install$$missing"; exit 1; fi; fi

web/node_modules/.installed: web/package.json web/package-lock.json
	cd web && npm ci --no-fund --no-audit --loglevel=error
	touch $@

WEB_SOURCES := $(shell find web/src web/public -type f 2>/dev/null) web/index.html web/vite.config.ts web/tsconfig.json
web/dist/index.html: web/node_modules/.installed $(WEB_SOURCES)
	cd web && npx tsc --noEmit && npx vite build --logLevel warn

# generate: the OpenAPI document from the Go types, and the console's types
# from the document.
generate: web/node_modules/.installed
	go run ./cmd/fado openapi > internal/api/openapi.json
	cd web && npx openapi-typescript ../internal/api/openapi.json -o src/api.gen.ts >/dev/null

check-generated: web/node_modules/.installed
	@d=$$(mktemp -d); trap 'rm -rf $$d' EXIT; \
	go run ./cmd/fado openapi > $$d/openapi.json && diff -u internal/api/openapi.json $$d/openapi.json >/dev/null || { echo "internal/api/openapi.json is stale: run «make generate»"; exit 1; }; \
	(cd web && npx openapi-typescript $$d/openapi.json -o $$d/api.gen.ts >/dev/null) && diff -u web/src/api.gen.ts $$d/api.gen.ts >/dev/null || { echo "web/src/api.gen.ts is stale: run «make generate»"; exit 1; }

lint: web/dist/index.html
	@out=$$(gofmt -l $$(git ls-files '*.go')); if [ -n "$$out" ]; then echo "not formatted: $$out; run «make fmt»"; exit 1; fi
	go vet -tags console ./...
	go tool staticcheck -tags console ./...
	cd web && npx tsc --noEmit && npx eslint src

fmt: web/node_modules/.installed
	gofmt -w $$(git ls-files '*.go')
	cd web && npx eslint --fix src

# RACED are the whole-service tests that run under the race detector: those over
# real connections. In bubbles of virtual time its own runtime crashes.
RACED := TestASecondImplementation|TestBrokerByTLS|TestAnExternalBroker|TestDriftPresenceAndProof|TestImagesAreServed|TestAStoppedService

# test: everything that has to hold, within half an hour on two cores.
test: tools check-generated lint
	go test -tags console -count=1 -timeout 60m ./...
	go test -tags console -race -short -count=1 -timeout 15m $$(go list ./... | grep -v /test/e2e)
	go test -tags console -race -short -count=1 -timeout 15m -run '$(RACED)' ./test/e2e

bench: build
	@command -v nginx >/dev/null || { [ "$$(id -u)" = 0 ] && apt-get update -qq && apt-get install -y -qq --no-install-recommends nginx-light >/dev/null; } || echo "nginx is missing; image downloads are not compared."
	go test -p 1 -run xxx -bench . -benchtime 2s ./internal/core/... ./internal/broker/... ./internal/store/... ./internal/engine
	go run ./test/load -what download
	go run ./test/load -what intake
	go run ./test/load -what fleet
	FADO_UNITS=1000 go test -tags console -run TestManyAtOnce -count=1 -timeout 30m -v ./test/e2e | grep "units:"

soak:
	FADO_SEED=$(SEED) FADO_BENCHES=1000 go test -tags console -run TestMixedBenches -count=1 -timeout 60m ./test/e2e
	FADO_SEED=$(SEED) FADO_STEPS=20000000 go test -run Simulation -count=1 -timeout 60m -v ./internal/core/task/ ./internal/core/rollout/
	FADO_SEED=$(SEED) FADO_ROLLOUTS=20 FADO_ROLLOUT_UNITS=200 FADO_KILLS=20 go test -tags console -run TestARolloutThatIsKilled -count=1 -timeout 120m -v ./test/e2e

screenshots: build tools
	@missing=""; for t in Xvfb:xvfb xterm:xterm import:imagemagick; do command -v $${t%%:*} >/dev/null || missing="$$missing $${t##*:}"; done; \
	if [ -n "$$missing" ]; then if [ "$$(id -u)" = 0 ]; then apt-get update -qq && apt-get install -y -qq $$missing fonts-dejavu-core >/dev/null; else echo "These Debian packages are missing:$$missing"; exit 1; fi; fi
	go run -tags console ./test/screenshots docs/screenshots

clean:
	rm -rf bin web/dist
