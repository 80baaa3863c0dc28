# make demo   sets up and starts everything with demo data
# make test   sets up and runs every check and test
PY := .venv/bin/python
# Debian's own Python was built with a profile of what it runs, as others seldom are: a sixth less time for the same work.
FITS := import ensurepip, sys; sys.exit(sys.version_info[:2] < (3, 11))
PYTHON := $(shell /usr/bin/python3 -c '$(FITS)' 2> /dev/null && echo /usr/bin/python3 || echo python3)
UV := .venv/bin/uv
NIGHTS ?= 5000
# What covers core and engine by itself (tests/conftest.py) is traced, and alone: in one run for all, with its browsers and
# threads, a third of the engine's branches went unseen.
COVERED := --cov=ordnung.core --cov=ordnung.engine --cov-branch --cov-report=
SPREAD := --dist loadfile --no-loadscope-reorder
CORE_COVERED := 100
ENGINE_COVERED := 95
SRC := $(shell find web/src web/index.html -type f -not -name schema.d.ts 2>/dev/null)

# Where the environment forbids it, every process of the suite would compile every module anew: seconds each.
unexport PYTHONDONTWRITEBYTECODE

# Debian's packages: what builds the base of discs that boot, and what boots them here without a server.
DISC_TOOLS := binutils cpio grub-common grub-pc-bin mtools squashfs-tools
BUILDERS := /usr/bin/mksquashfs /usr/bin/mcopy /usr/bin/grub-mkimage /usr/bin/strip /usr/bin/cpio /usr/lib/grub/i386-pc/boot_hybrid.img
EMULATOR := ovmf qemu-system-x86 seabios ipxe-qemu xorriso p7zip-full
READERS := /usr/bin/qemu-system-x86_64 /usr/bin/xorriso /usr/bin/7z /usr/share/OVMF/OVMF_CODE_4M.fd
INSTALL := DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends

.PHONY: demo demo-fresh dev setup test test-waiting test-working quick check check-python check-web fix bench screenshots soak lock api clean boot-base

setup: .venv/.done web/dist/index.html

demo: setup
	@exec $(PY) -m ordnung.demo

demo-fresh: setup
	@exec $(PY) -m ordnung.demo --fresh

# The demo with a web server that begins anew, and an interface that is shown anew, when a file is saved.
dev: setup
	@trap 'kill $$!' EXIT; (cd web && exec npx vite --clearScreen false) & ORDNUNG_RELOAD=yes $(PY) -m ordnung.demo

.venv/.done: requirements-bootstrap.lock requirements-dev.lock pyproject.toml
	test -x $(PY) || $(PYTHON) -m venv .venv
	$(PY) -m pip install --quiet --disable-pip-version-check --require-hashes --requirement requirements-bootstrap.lock
	$(UV) pip sync --quiet --python $(PY) --require-hashes requirements-bootstrap.lock requirements-dev.lock
	$(UV) pip install --quiet --python $(PY) --no-deps --no-build-isolation --editable .
	touch $@

web/node_modules/.done: web/package-lock.json web/package.json
	cd web && npm ci --no-fund --no-audit --loglevel=error
	touch $@

# The API's types are generated, not kept: the contract is docs/openapi.json.
web/src/api/schema.d.ts: docs/openapi.json web/node_modules/.done
	cd web && npx openapi-typescript ../docs/openapi.json --output src/api/schema.d.ts > /dev/null

web/dist/index.html: .venv/.done web/node_modules/.done web/src/api/schema.d.ts web/vite.config.ts docs/vocabulary.json $(SRC)
	cd web && npx vite build --logLevel warn
	$(PY) -m whitenoise.compress --quiet web/dist
	touch $@

/usr/bin/chromium-headless-shell:
	apt-get update -qq
	$(INSTALL) chromium-headless-shell

$(BUILDERS) &:
	apt-get update -qq
	$(INSTALL) $(DISC_TOOLS)

$(READERS) &:
	apt-get update -qq
	$(INSTALL) $(EMULATOR)

# The small Linux of discs that boot by themselves (docs/booting-disc.md): a minute, once.
boot-base: var/boot-base/base.json

var/boot-base/base.json: $(wildcard boot/* boot/*/*) requirements-disc.lock | .venv/.done $(BUILDERS)
	$(PY) boot/build.py var/boot-base

# The two halves need nothing of each other: `make -j2 check` takes as long as the longer one.
check: check-python check-web

check-python: setup
	$(PY) -m ruff check src tests bench boot
	$(PY) -m ruff format --check src tests bench boot
	$(PY) -m mypy
	.venv/bin/lint-imports --no-cache
	$(PY) -m tests.api_contract

# What has not changed since it was right is not looked at again; a rule that looks at the types of another file may need a
# clean clone for that.
KEPT := --cache --cache-strategy content
check-web: setup
	cd web && npx prettier $(KEPT) --log-level warn --check src *.js *.ts *.json
	cd web && npx eslint $(KEPT) --cache-location node_modules/.cache/eslint/ --max-warnings 0 .
	cd web && npx tsc --noEmit --incremental --tsBuildInfoFile node_modules/.cache/tsc.json && npx vitest run --reporter=dot

# Between two thoughts.
quick: setup
	@$(MAKE) --no-print-directory -j2 check
	$(PY) -m pytest -n 2 --dist loadfile tests/core tests/engine tests/formats

# What mostly waits, for pages and for other processes, and what fills the processors meanwhile, when they have the time.
test: setup /usr/bin/chromium-headless-shell boot-base $(READERS)
	@$(MAKE) --no-print-directory -j2 test-waiting test-working

test-waiting: setup
	$(PY) -m pytest -n 3 $(SPREAD) tests/journeys tests/disc

BEHIND := nice -n 4
test-working: setup
	$(BEHIND) $(MAKE) --no-print-directory check
	$(BEHIND) $(PY) -m pytest -n 3 $(SPREAD) -m untraced --ignore tests/journeys --ignore tests/disc tests
	$(BEHIND) $(PY) -m pytest -n 2 $(SPREAD) $(COVERED) -m "not untraced" tests/core tests/engine tests/controllers tests/simulation
	$(PY) -m coverage report --include='src/ordnung/core/*' --fail-under=$(CORE_COVERED)
	$(PY) -m coverage report --include='src/ordnung/engine/*' --fail-under=$(ENGINE_COVERED)

fix: setup
	$(PY) -m ruff check --fix src tests bench boot
	$(PY) -m ruff format src tests bench boot
	cd web && npx prettier --log-level warn --write src *.js *.ts *.json
	cd web && npx eslint --fix .

api: setup
	$(PY) -m tests.api_contract --write
	$(PY) -m tests.rights_page --write

bench: setup
	$(PY) -m bench

screenshots: setup /usr/bin/chromium-headless-shell
	$(PY) -m tests.journeys.screenshots

soak: setup boot-base $(READERS)
	ORDNUNG_DISCS=yes $(PY) -m pytest tests/disc
	$(PY) -m tests.simulation.soak --runs $(NIGHTS)
	HYPOTHESIS_PROFILE=soak $(PY) -m pytest tests/core tests/formats
	ORDNUNG_KILLS=200 $(PY) -m pytest tests/journeys/test_processes.py -k killing
	ORDNUNG_FUZZ=50 $(PY) -m pytest tests/server/test_contract.py tests/formats/test_fuzz.py tests/repository/test_fuzz.py

lock:
	$(UV) pip compile --quiet --generate-hashes --no-header --no-emit-index-url --no-emit-find-links requirements-bootstrap.in -o requirements-bootstrap.lock
	$(UV) pip compile --quiet --generate-hashes --no-header --no-emit-index-url --no-emit-find-links requirements-dev.in -o requirements-dev.lock
	$(UV) pip compile --quiet --generate-hashes --no-header --no-emit-index-url --no-emit-find-links --constraint requirements-dev.lock requirements-kit.in -o requirements-kit.lock
	$(UV) pip compile --quiet --generate-hashes --no-header --no-emit-index-url --no-emit-find-links --python-version 3.11 --constraint requirements-dev.lock requirements-disc.in -o requirements-disc.lock

clean:
	rm -rf .venv web/node_modules web/dist var
