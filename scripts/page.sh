#!/usr/bin/env bash
# The page with the steps of an action by hand, in a real browser: boxes keep their marks, buttons copy the text beside them,
# nothing is loaded from anywhere. Chromium is installed where it is missing (Debian), or named with CHROMIUM.
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
exec python3 scripts/page.py "$(realpath "$program")" "$browser"
