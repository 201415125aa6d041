#!/usr/bin/env bash
# Runs a command on a virtual screen of its own: with_display.sh COMMAND …
set -euo pipefail
pipe=$(mktemp -u); mkfifo "$pipe"
Xvfb -displayfd 4 -screen 0 1600x1000x24 -nolisten tcp 4>"$pipe" 2>/dev/null &
screen=$!
read -r number <"$pipe"; rm -f "$pipe"
trap 'kill "$screen" 2>/dev/null || true' EXIT
DISPLAY=":$number" QT_QPA_PLATFORM=xcb "$@"
