#!/usr/bin/env bash
# The quick look while working: lint, format, types, the import contract, and the core's fast tests, side by side.
set -euo pipefail
cd "$(dirname "$0")/.."
.venv/bin/ruff check src tests benchmarks tools
.venv/bin/ruff format --check src tests benchmarks tools
.venv/bin/mypy & types=$!
.venv/bin/lint-imports --no-cache & contract=$!
.venv/bin/python -m pytest tests/geometry tests/shot tests/match tests/media tests/matte/test_pulls.py tests/matte/test_edge.py \
  tests/place/test_place.py tests/place/test_ride.py tests/lock/test_fit.py tests/lock/test_align_rows.py tests/test_examples.py "$@"
wait "$types"
wait "$contract"
