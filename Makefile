# The two commands of the README, and what else is done often.

GO ?= go
export CGO_ENABLED = 0

.PHONY: histories mail kills demo test build lint race fuzz bench table real bench-real cross packages check-packages clean

demo: build
	./mintbatch demo

test:
	$(GO) test ./...

build:
	$(GO) build -o mintbatch ./cmd/mintbatch

lint:
	@unformatted=$$(gofmt -l .); test -z "$$unformatted" || { echo "not formatted: $$unformatted"; exit 1; }
	$(GO) vet ./... && $(GO) vet -tags real ./...
	$(GO) tool staticcheck ./...
	cd packaging && $(GO) vet . # a module of its own
	$(GO) test ./internal # arrows only run down

race:
	CGO_ENABLED=1 $(GO) test -race -short ./internal/...

# Every fuzz target for a while: make fuzz FUZZTIME=1m. That a target was at
# work when its time was up is no failure; an input that fails is.
FUZZTIME ?= 10s
fuzz:
	@said=$$(mktemp); \
	for package in $$($(GO) list ./...); do \
	  for target in $$($(GO) test -list '^Fuzz' $$package | grep '^Fuzz'); do \
	    echo "$$package $$target"; \
	    $(GO) test -run '^$$' -fuzz "^$$target$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 100x $$package >$$said 2>&1 || \
	      { ! grep -q 'Failing input written' $$said && grep -q 'context deadline exceeded' $$said; } || \
	      { cat $$said; rm -f $$said; exit 1; }; \
	    tail -n 1 $$said; \
	  done; \
	done; rm -f $$said

# The long harnesses, whole: every crash point, pairs of commands, and 400
# random histories.
histories:
	@said=$$(mktemp); \
	MINTBATCH_FULL=1 $(GO) test -count=1 -timeout 40m -run 'Histories|Pairs' ./internal/mint >$$said 2>&1 & first=$$!; \
	MINTBATCH_FULL=1 $(GO) test -count=1 -timeout 40m -skip 'Histories|Pairs' ./internal/mint; second=$$?; \
	wait $$first; first=$$?; cat $$said; rm -f $$said; exit $$((first + second))

# Requests through real mail servers on loopback (exim, dovecot), as root; and two intakes on one ledger that are killed, again and
# again: 200 rounds with folders, 10 with mail.
mail:
	MINTBATCH_FULL=1 $(GO) test -tags real -count=1 -timeout 30m -run 'Mail|Intakes|EveryWrite' ./cmd/mintbatch ./internal/request

# The program, killed: a mint at every boundary, a crowd on one ledger, two operators of one folder in 200 rounds; a folder at every
# write. And 500 chains of images.
kills:
	MINTBATCH_FULL=1 $(GO) test -count=1 -timeout 30m -run 'Folder|EveryWrite|EveryBoundary|Crowd|Chains' ./cmd/mintbatch ./internal/site/folder ./internal/diskfile

bench:
	$(GO) test -run '^$$' -bench . ./bench ./internal/...

# The table of docs/performance.md, anew; it takes half an hour.
table:
	@$(GO) test -run '^$$' -bench Table -benchtime 1x -timeout 2h ./bench | grep '^|'

# The suite on a real hypervisor, as root. The guest that is cloned is built
# once and kept outside the checkout. RUN picks tests, SKIP leaves some out: make real RUN=Refusals
GUEST ?= $(or $(XDG_CACHE_HOME),$(HOME)/.cache)/mintbatch/guest.qcow2
RUN ?= .
SKIP ?= ^$$
real:
	./real/guest.sh $(GUEST)
	MINTBATCH_REAL_GUEST=$(GUEST) ./real/host.sh $(GO) test -tags real -count=1 -timeout 60m -v -run 'TestReal.*$(RUN)' -skip '$(SKIP)' ./cmd/mintbatch

# Beside a domain controller, as root. What is provisioned once is kept outside the checkout.
DOMAIN ?= $(or $(XDG_CACHE_HOME),$(HOME)/.cache)/mintbatch/domain
domain:
	./real/domain.sh $(DOMAIN) $(GO) test -tags real -count=1 -run TestInDomain ./cmd/mintbatch

bench-real:
	./real/guest.sh $(GUEST)
	MINTBATCH_REAL_GUEST=$(GUEST) ./real/host.sh $(GO) test -tags real -timeout 60m -run '^$$' -bench Libvirt -benchtime 1x ./bench

# Packages for all systems, in dist: make packages VERSION=1.2.3
VERSION ?= 0.1.0
packages:
	cd packaging && $(GO) run . -version $(VERSION)

# Those of this system, built twice, installed and removed in a clean tree.
check-packages:
	./packaging/check.sh

cross:
	GOOS=linux GOARCH=arm64 $(GO) build -o /dev/null ./cmd/mintbatch
	GOOS=darwin GOARCH=arm64 $(GO) build -o /dev/null ./cmd/mintbatch
	GOOS=windows GOARCH=amd64 $(GO) build -o /dev/null ./cmd/mintbatch

clean:
	rm -rf mintbatch mintbatch-demo
