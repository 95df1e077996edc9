.PHONY: demo test shots bench lint lock desktop wheel clean

demo: .venv/plant.stamp
	@tools/demo.sh

test: .venv/dev.stamp .venv/plant.stamp
	QT_QPA_PLATFORM=offscreen .venv/bin/python -m pytest tests --ignore tests/realwindow -n 2 --dist worksteal
	tools/with_screen.sh .venv/bin/python -m pytest tests/realwindow

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

# The simulated machines are compiled before anything is timed or tested, and again only where their sources changed.
.venv/plant.stamp: .venv/run.stamp $(wildcard src/niente/core/rigs/simulated/*.py)
	@.venv/bin/python -m niente.core.rigs.simulated
	@touch $@

.venv/run.stamp: requirements/run.lock pyproject.toml tools/setup.sh
	@tools/setup.sh run

.venv/dev.stamp: requirements/run.lock requirements/dev.lock pyproject.toml tools/setup.sh
	@tools/setup.sh dev
