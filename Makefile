# Each command sets up all it needs: a virtual environment in .venv and, where we may, Debian's libraries for Qt.
.PHONY: demo test check floors bench drills setup setup-test shots clean

demo: setup
	@bash tools/run_demo.sh

test: setup-test
	@bash tools/run_tests.sh

check: setup-test
	@bash tools/run_check.sh

setup:
	@bash tools/setup.sh run

setup-test:
	@bash tools/setup.sh test

floors: setup-test
	@.venv/bin/python benchmarks/floors.py

bench: setup-test
	@.venv/bin/python benchmarks/run.py
	@.venv/bin/python benchmarks/locks.py
	@.venv/bin/python benchmarks/place.py

# What happens to somebody's work when programs are killed, disks are full and files are bad; long.
drills: setup-test
	@.venv/bin/python -m drills --out drill_results

shots: setup-test
	@bash tools/with_display.sh .venv/bin/python tools/screenshots.py

clean:
	rm -rf .venv build *.egg-info src/*.egg-info .mypy_cache .ruff_cache .pytest_cache
