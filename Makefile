.PHONY: demo test shots bench lint lock desktop clean

demo: .venv/run.stamp
	@tools/demo.sh

test: .venv/dev.stamp
	QT_QPA_PLATFORM=offscreen .venv/bin/python -m pytest tests --ignore tests/realwindow -n 2 --dist worksteal
	tools/with_screen.sh .venv/bin/python -m pytest tests/realwindow

shots: .venv/run.stamp
	QT_QPA_PLATFORM=offscreen .venv/bin/python tools/shots.py docs/screenshots

bench: .venv/dev.stamp
	QT_QPA_PLATFORM=offscreen .venv/bin/python -m benchmarks

lint: .venv/dev.stamp
	.venv/bin/ruff check .
	.venv/bin/ruff format --check .
	.venv/bin/mypy
	.venv/bin/lint-imports
	tools/linux_files.sh check

desktop: .venv/run.stamp
	tools/linux_files.sh install

lock:
	tools/lock.sh

clean:
	rm -rf .venv build .mypy_cache .ruff_cache .pytest_cache .import_linter_cache

.venv/run.stamp: requirements/run.lock pyproject.toml tools/setup.sh
	@tools/setup.sh run

.venv/dev.stamp: requirements/run.lock requirements/dev.lock pyproject.toml tools/setup.sh
	@tools/setup.sh dev
