#!/usr/bin/env bash
# Lint, format, types, the import contract, then every test on all cores. Each step's failure fails the whole.
set -euo pipefail
cd "$(dirname "$0")/.."
.venv/bin/ruff check src tests benchmarks tools drills
.venv/bin/ruff format --check src tests benchmarks tools drills
nice .venv/bin/mypy & types=$!
.venv/bin/lint-imports --no-cache
failed=0
# Two workers that share two cores: each multiplies its matrices on one.
OPENBLAS_NUM_THREADS=1 QT_QPA_PLATFORM=offscreen .venv/bin/python -m pytest -n 2 --dist worksteal "$@" || failed=$?
wait "$types" || failed=$?
exit "$failed"
