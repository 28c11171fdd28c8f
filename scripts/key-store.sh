#!/usr/bin/env bash
# Passphrases in the key store of a desktop, played by a real one on a bus of its own (Debian: gnome-keyring, dbus), which are installed where
# they are missing.
#
# Ends with 3 where there is none, or where none can be started.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
if ! command -v gnome-keyring-daemon > /dev/null || ! command -v dbus-run-session > /dev/null || ! command -v dbus-send > /dev/null; then
  command -v apt-get > /dev/null || { echo "no key store here, and none that could be installed" >&2; exit 3; }
  sudo=; [ "$(id -u)" = 0 ] || sudo=sudo
  $sudo apt-get -qq update
  DEBIAN_FRONTEND=noninteractive $sudo apt-get -y -qq --no-install-recommends install gnome-keyring dbus
fi
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
# Some containers let no program lock memory, which it wants.
if ! STORE=$folder dbus-run-session -- bash crates/kind-lantern/tests/it/key_store/session.sh true 2> "$folder/why"; then
  cat "$folder/why" >&2
  echo "a key store cannot be started here" >&2
  exit 3
fi
cargo test --locked -p kind-lantern --features key-store --test it -- key_store::
