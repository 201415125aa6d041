#!/usr/bin/env bash
# Lint, format, types, the import contract, then every test on all cores. Each step's failure fails the whole.
set -euo pipefail
cd "$(dirname "$0")/.."
.venv/bin/ruff check src tests benchmarks tools drills
.venv/bin/ruff format --check src tests benchmarks tools drills
[ -d .mypy_cache ] && keep=() || keep=(--cache-dir=/dev/null)  # what is checked once keeps nothing: a sixth faster
nice .venv/bin/mypy "${keep[@]}" & types=$!
.venv/bin/lint-imports --no-cache
source tools/bytecode.sh
export OPENBLAS_NUM_THREADS=1  # two workers that share two cores: each multiplies its matrices on one
export QT_QPA_PLATFORM=offscreen
failed=0
# To write all asserts anew, so that they say what they compared, takes as long as to load the tests: only for what fails.
.venv/bin/python -m pytest -n 2 --dist worksteal --assert=plain "$@" || failed=$?
if [ "$failed" = 1 ]; then .venv/bin/python -m pytest -n 2 --last-failed "$@" || true; fi
wait "$types" || failed=$?
exit "$failed"
