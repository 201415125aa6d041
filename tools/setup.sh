#!/usr/bin/env bash
# Sets up .venv with the locked packages, and the Debian libraries that Qt needs. Usage: setup.sh run|test
set -euo pipefail
cd "$(dirname "$0")/.."
kind=${1:-run}
say() { printf '%s\n' "$*" >&2; }

# --- Debian packages -------------------------------------------------------------------------------------------
missing=()
there=$(ldconfig -p 2>/dev/null || true)
need() { [[ "$there" == *"$1"* ]] || missing+=("$2"); }
need libEGL.so.1 libegl1
need libGL.so.1 libgl1
need libxkbcommon.so.0 libxkbcommon0
need libxkbcommon-x11.so.0 libxkbcommon-x11-0
need libdbus-1.so.3 libdbus-1-3
need libfontconfig.so.1 libfontconfig1
need libglib-2.0.so.0 libglib2.0-0
need libxcb-cursor.so.0 libxcb-cursor0
need libxcb-icccm.so.4 libxcb-icccm4
need libxcb-keysyms.so.1 libxcb-keysyms1
need libxcb-shape.so.0 libxcb-shape0
need libxcb-xkb.so.1 libxcb-xkb1
need libxcb-image.so.0 libxcb-image0
need libxcb-render-util.so.0 libxcb-render-util0
need libxcb-randr.so.0 libxcb-randr0
need libxcb-xinerama.so.0 libxcb-xinerama0
need libwayland-client.so.0 libwayland-client0
need libwayland-cursor.so.0 libwayland-cursor0
if [ "$kind" = test ]; then command -v Xvfb >/dev/null || missing+=(xvfb); fi

python=""
for candidate in python3.11 python3 python3.12 python3.13; do
  if command -v "$candidate" >/dev/null && "$candidate" -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; then
    python=$candidate; break
  fi
done
if [ -z "$python" ]; then say "Python 3.11 or newer was not found. Install it (Debian: apt-get install python3 python3-venv) and try again."; exit 1; fi
"$python" -c 'import ensurepip, venv' 2>/dev/null || missing+=(python3-venv)

fetch_debian() {
  local as_root=()
  if [ "$(id -u)" != 0 ]; then
    if command -v sudo >/dev/null && sudo -n true 2>/dev/null; then as_root=(sudo -n)
    else say "These Debian packages are missing and may not be installed from here: ${missing[*]}"
         say "Ask an administrator to run: apt-get install --no-install-recommends ${missing[*]}"; exit 1; fi
  fi
  if ! command -v apt-get >/dev/null; then say "These libraries are missing (Debian's names): ${missing[*]}. Install them with your system's package manager."; exit 1; fi
  say "Installing Debian packages: ${missing[*]}"
  "${as_root[@]}" apt-get update -q >/dev/null
  DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y -q --no-install-recommends "${missing[@]}" >/dev/null
}
installing=()
if [ ${#missing[@]} -gt 0 ]; then fetch_debian & installing+=($!); fi
if [[ " ${missing[*]} " == *" python3-venv "* ]]; then wait "${installing[@]}"; installing=(); fi  # the rest is needed last

# --- Python packages -------------------------------------------------------------------------------------------
[ -x .venv/bin/python ] || "$python" -m venv .venv
locks=(requirements.lock)
[ "$kind" = test ] && locks+=(requirements-test.lock)
for lock in "${locks[@]}"; do  # side by side: no package is in two locks
  stamp=".venv/.installed-$lock"
  if ! cmp -s "$lock" "$stamp"; then
    say "Installing the packages of $lock …"
    # Not compiled here: each module is when it is first used, and most never are.
    { .venv/bin/pip install -q --disable-pip-version-check --no-deps --no-compile --require-hashes -r "$lock" &&
      cp "$lock" "$stamp"; } & installing+=($!)
  fi
done
for each in "${installing[@]}"; do wait "$each"; done
if [ ! -x .venv/bin/zonal-mantle ] || [ pyproject.toml -nt .venv/.installed-project ]; then
  .venv/bin/pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e .
  touch .venv/.installed-project
fi

# --- Modules and kernels: compiled now, so that nobody waits for them at the first picture ----------------------------------
compiled=".venv/.compiled-$kind"
if [ ! -e "$compiled" ] || [ -n "$(find src -name '*.py' -newer "$compiled" -print -quit)" ]; then
  say "Compiling what pictures are made with …"
  .venv/bin/python -m compileall -q src || true  # what cannot be written is compiled at each start
  if [ "$kind" = test ]; then
    export NUMBA_CACHE_DIR="$PWD/.venv/kernels"
    source tools/bytecode.sh
  fi
  if .venv/bin/python -m zonal_mantle.kernels; then touch "$compiled"; fi
fi
