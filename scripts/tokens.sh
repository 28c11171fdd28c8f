#!/usr/bin/env bash
# Signing with a token of PKCS #11, played by a software token (Debian: softhsm2), which is installed where it is missing.
#
# Ends with 3 where there is none.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
if ! command -v softhsm2-util > /dev/null; then
  command -v apt-get > /dev/null || { echo "no software token here, and none that could be installed" >&2; exit 3; }
  sudo=; [ "$(id -u)" = 0 ] || sudo=sudo
  $sudo apt-get -qq update
  DEBIAN_FRONTEND=noninteractive $sudo apt-get -y -qq --no-install-recommends install softhsm2
fi
for module in "${LANTERN_TOKEN_MODULE:-}" /usr/lib/softhsm/libsofthsm2.so /usr/lib/*/softhsm/libsofthsm2.so /usr/local/lib/softhsm/libsofthsm2.so; do
  [ -e "$module" ] && break
done
[ -e "$module" ] || { echo "its module is not where it usually is: name it with LANTERN_TOKEN_MODULE" >&2; exit 3; }
LANTERN_TOKEN_MODULE=$module cargo test --locked -p kind-lantern --features tokens --test it -- token::
