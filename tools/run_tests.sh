#!/usr/bin/env bash
# Lint, format, types, the import contract, then every test. Each step's failure fails the whole.
set -euo pipefail
cd "$(dirname "$0")/.."
.venv/bin/ruff check src tests benchmarks tools
.venv/bin/ruff format --check src tests benchmarks tools
.venv/bin/mypy
.venv/bin/lint-imports --no-cache
QT_QPA_PLATFORM=offscreen .venv/bin/python -m pytest "$@"
