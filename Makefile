PY = .venv/bin/python
PYTEST = $(PY) -m pytest --numprocesses auto --maxprocesses 4 --dist worksteal
MINUTES = 10
SEED = 1
KILLS = 1000
# what takes long of the tests of core, for the inner loop
LONG = camera/test_demo_cameras.py camera/test_orbits.py clearance/test_adversarial.py clearance/test_certificate.py \
	clearance/test_clearance.py clearance/test_contact_history.py clearance/test_fits.py clearance/test_swept.py extraction \
	files/test_against_opencascade.py files/test_formats.py files/test_gltf_export.py files/test_import.py \
	files/test_product_cache.py files/test_recovery.py findings/test_findings.py findings/test_rule_table.py \
	files/test_usd.py geometry/test_roundness.py kinematics/test_displacement.py review

.PHONY: setup dev demo test test-quick coverage lint bench fuzz endure drill shots demo-geometry demo-project lock install uninstall

setup:
	@scripts/setup run

dev: setup
	@scripts/setup dev
	@scripts/third-party
	@scripts/npm-packages
	@scripts/browser

demo: setup
	@scripts/demo

test: dev
	@PYTHONDONTWRITEBYTECODE= KESTRAV_VIRTUAL_DISPLAY=1 scripts/with-display $(PYTEST)

test-quick: dev
	@PYTHONDONTWRITEBYTECODE= $(PYTEST) tests/core \
		$(addprefix --ignore=tests/core/,$(LONG))

# what of core its own tests go through
coverage: dev
	@PYTHONDONTWRITEBYTECODE= $(PYTEST) tests/core \
		--cov=kestrav.core --cov-report=term:skip-covered --cov-fail-under=92

lint: dev
	@.venv/bin/ruff check src tests bench campaigns demo
	@.venv/bin/ruff format --check src tests bench campaigns demo
	@.venv/bin/mypy -p kestrav -p bench -p campaigns
	@.venv/bin/lint-imports

bench: dev
	@KESTRAV_VIRTUAL_DISPLAY=1 scripts/with-display $(PY) -m bench

fuzz: dev
	@$(PY) -m campaigns.fuzz --minutes $(MINUTES) --seed $(SEED)

endure: dev
	@KESTRAV_VIRTUAL_DISPLAY=1 scripts/with-display $(PY) -m campaigns.endure --minutes $(MINUTES) --seed $(SEED)

drill: dev
	@$(PY) -m campaigns.drill --kills $(KILLS) --seed $(SEED)

shots: setup
	@KESTRAV_VIRTUAL_DISPLAY=1 scripts/with-display $(PY) demo/tour.py demo/fan-cassette.kestrav docs/screenshots --pictures-only

demo-geometry: setup
	@scripts/setup geometry
	@$(PY) demo/make_geometry.py

demo-project: setup
	@$(PY) demo/make_project.py

install: setup
	@scripts/install

uninstall:
	@scripts/install remove

# pin anew what pyproject.toml asks for
lock: dev
	@scripts/lock
