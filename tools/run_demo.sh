#!/usr/bin/env bash
# Opens the window on the demo, or says how to do the job without a display.
set -euo pipefail
cd "$(dirname "$0")/.."
if [ -z "${DISPLAY:-}${WAYLAND_DISPLAY:-}${QT_QPA_PLATFORM:-}" ]; then
  cat >&2 <<'T'
No display was found (neither DISPLAY nor WAYLAND_DISPLAY is set), so the window cannot open here.
Without a display:
  .venv/bin/zonal-mantle demo --write saltern            writes the demo shot
  .venv/bin/zonal-mantle render saltern/SLT_0140.shot.json --out frames
  .venv/bin/zonal-mantle check saltern/SLT_0140.shot.json --json
T
  exit 1
fi
exec .venv/bin/zonal-mantle demo
