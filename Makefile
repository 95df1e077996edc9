.PHONY: demo test harness shots bench lint lock desktop wheel clean

demo: .venv/plant.stamp
	@tools/demo.sh

test: .venv/dev.stamp .venv/plant.stamp
	QT_QPA_PLATFORM=offscreen .venv/bin/python -m pytest tests --ignore tests/realwindow -n 3 --dist worksteal
	tools/with_screen.sh .venv/bin/python -m pytest tests/realwindow

# The cases that are drawn at random, all of them; NIENTE_SEED draws others. Each failing seed becomes a test.
harness: .venv/dev.stamp .venv/plant.stamp
	NIENTE_DRAWS=all QT_QPA_PLATFORM=offscreen .venv/bin/python -m pytest -n 2 --dist worksteal tests/cli/test_bad_input.py \
		tests/cli/test_damaged_books.py tests/core/storage/test_making.py tests/core/acquisition/test_misbehaving_rigs.py

shots: .venv/plant.stamp
	QT_QPA_PLATFORM=offscreen .venv/bin/python tools/shots.py docs/screenshots

bench: .venv/dev.stamp .venv/plant.stamp
	QT_QPA_PLATFORM=offscreen .venv/bin/python -m benchmarks $(PART)

lint: .venv/dev.stamp
	.venv/bin/ruff check .
	.venv/bin/ruff format --check .
	.venv/bin/mypy
	.venv/bin/lint-imports
	.venv/bin/python tools/house_check.py
	tools/linux_files.sh check

desktop: .venv/run.stamp
	tools/linux_files.sh install

lock:
	tools/lock.sh

wheel: .venv/dev.stamp
	tools/wheel_check.sh

clean:
	rm -rf .venv build .mypy_cache .ruff_cache .pytest_cache .import_linter_cache

# Simulated machines and rehearsals are compiled before anything is timed or tested, and again only where their sources changed.
.venv/plant.stamp: .venv/run.stamp $(wildcard src/niente/core/rigs/simulated/*.py src/niente/core/fans/*.py)
	@.venv/bin/python -m niente.core.rigs.simulated
	@.venv/bin/python -m niente.core.fans
	@touch $@

.venv/run.stamp: requirements/run.lock pyproject.toml tools/setup.sh
	@tools/setup.sh run

.venv/dev.stamp: requirements/run.lock requirements/dev.lock pyproject.toml tools/setup.sh
	@tools/setup.sh dev
