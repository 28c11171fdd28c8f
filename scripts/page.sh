#!/usr/bin/env bash
# Pages in a real browser. The one with the steps of an action by hand: boxes keep their marks, buttons copy the text beside them,
# nothing is loaded from anywhere. Recovery sheets: their codes are read back from pictures (scripts/sheets.py). Chromium is installed where it is missing (Debian), or named with CHROMIUM.
#
# Ends with 3 where there is no browser.
#
#   scripts/page.sh [PROGRAM]     PROGRAM: the built lantern; left out, it is built
set -euo pipefail
cd "$(dirname "$0")/.."
program=${1:-}
if [ -z "$program" ]; then
  cargo build --locked -p kind-lantern
  program=$(cargo metadata --format-version 1 --no-deps | python3 -c 'import json,sys; print(json.load(sys.stdin)["target_directory"])')/debug/lantern
fi
browser=${CHROMIUM:-$(command -v chromium || true)}
if [ -z "$browser" ]; then
  command -v apt-get > /dev/null || { echo "no Chromium here, and none that could be installed: name one with CHROMIUM" >&2; exit 3; }
  sudo=; [ "$(id -u)" = 0 ] || sudo=sudo
  $sudo apt-get -qq update
  DEBIAN_FRONTEND=noninteractive $sudo apt-get -y -qq --no-install-recommends install chromium fonts-dejavu-core
  browser=$(command -v chromium)
fi
program=$(realpath "$program")
python3 scripts/page.py "$program" "$browser"

# A decoder of codes that has nothing in common with what makes ours.
tools="${XDG_CACHE_HOME:-$HOME/.cache}/kind-lantern-ci/decoder"
if ! "$tools/bin/python3" -c 'import zxingcpp, PIL' 2> /dev/null; then
  python3 -m venv "$tools"
  "$tools/bin/python3" -m pip install -q zxing-cpp==3.1.1 pillow
fi
exec "$tools/bin/python3" scripts/sheets.py "$program" "$browser"
