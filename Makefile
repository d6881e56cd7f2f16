# The two commands of README.md are `go run ./cmd/illumicode demo` and `make test`.

# Of SQLite's code, which is C made Go, pointers are not checked at each step: it took half of the tests' time.
UNCHECKED = -gcflags=modernc.org/...=-d=checkptr=0

STATICCHECK = honnef.co/go/tools/cmd/staticcheck@v0.8.2

.PHONY: demo test bench chaos check promises screenshots

demo:
	go run ./cmd/illumicode demo

# The nested modules have the driver of a C library and what drives a browser, which the library's
# users must not get.
test:
	scripts/need gcc:gcc /usr/include/stdint.h:libc6-dev git:git /usr/bin/python3:python3 \
	  /usr/lib/python3/dist-packages/dkim:python3-dkim /usr/lib/python3/dist-packages/nacl:python3-nacl \
	  /usr/sbin/postfix:postfix /usr/sbin/pgbouncer:pgbouncer ip:iproute2 /usr/sbin/saslpasswd2:sasl2-bin \
	  /usr/share/doc/libsasl2-modules:libsasl2-modules \
	  /usr/share/doc/libsasl2-modules-db:libsasl2-modules-db /usr/share/doc/postgresql:postgresql \
	  chromium:chromium
	CGO_ENABLED=1 go test -race $(UNCHECKED) -timeout 20m ./...
	cd store/sqlite/foreign && CGO_ENABLED=1 go test -race -timeout 3m ./...
	cd web/browser && CGO_ENABLED=1 go test -race -timeout 3m ./...

bench:
	go run ./bench

# Breaks things on purpose and counts, for an hour or so; `make test` has the short run.
chaos:
	scripts/need /usr/share/doc/postgresql:postgresql /usr/sbin/pgbouncer:pgbouncer ip:iproute2
	go run ./chaos
	go test ./chaos -run TestThrottlingRelay -v -timeout 2h -hours 24 -letters 5000

check:
	@test -z "$$(gofmt -l .)" || { echo "gofmt would change:"; gofmt -l .; exit 1; }
	go vet ./...
	cd store/sqlite/foreign && go vet ./...
	cd web/browser && go vet ./...
	go run $(STATICCHECK) ./...
	CGO_ENABLED=0 go build ./...
	scripts/test-share
	go run ./scripts/sizes
	go run ./scripts/promised -check docs/api.txt

# Writes what the module promises anew. A name more is a promise more: say in docs/decisions.md why.
promises:
	go run ./scripts/promised >docs/api.txt

screenshots:
	scripts/need chromium:chromium Xvfb:xvfb xterm:xterm import:imagemagick curl:curl
	scripts/screenshots
