#!/usr/bin/env bash
# Works on real disks of other kinds: one that does not count letter case and has no links (exFAT), one that fails for a
# moment while it is written (its image lies on a disk that is too small for it), a small one, a full one, and one that
# can only be read.
# Needs Linux, root, loop devices and FUSE; installs exfat-fuse and exfatprogs (Debian's). Takes all of it down again.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."

missing=""
[[ $(uname) == Linux && $(id -u) == 0 ]] || missing="root on Linux"
[[ -z $missing && -e /dev/loop-control && -e /dev/fuse ]] || missing=${missing:-loop devices and FUSE}
if [[ -n $missing ]]; then
  echo "NOT RUN: other disks cannot be made here without $missing" >&2
  exit 3
fi
need=()
for package in exfat-fuse exfatprogs e2fsprogs; do
  dpkg-query -W -f='${db:Status-Status}' "$package" 2>/dev/null | grep -qx installed || need+=("$package")
done
if ((${#need[@]})); then
  apt-get -qq update && DEBIAN_FRONTEND=noninteractive apt-get -y -qq --no-install-recommends install "${need[@]}" >/dev/null
fi

work=$(mktemp -d)
loops=()
clean() {
  for at in folding failing small full read-only; do umount "$work/$at" 2>/dev/null || true; done
  for loop in "${loops[@]}"; do losetup -d "$loop" 2>/dev/null || true; done
  umount "$work/backing" 2>/dev/null || true
  rm -rf "$work"
}
trap clean EXIT
mkdir "$work"/{folding,failing,small,full,read-only,backing}

truncate -s 200M "$work/folding.img"
mkfs.exfat "$work/folding.img" >/dev/null
loop=$(losetup -f --show "$work/folding.img") && loops+=("$loop")
mount.exfat-fuse "$loop" "$work/folding" >/dev/null

mount -t tmpfs -o size=30m tmpfs "$work/backing"
truncate -s 200M "$work/backing/failing.img"
# Without a journal: one that fails makes the disk read-only, which is noticed at once.
mkfs.ext4 -q -O ^has_journal "$work/backing/failing.img"
loop=$(losetup -f --show "$work/backing/failing.img") && loops+=("$loop")
mount -o errors=continue "$loop" "$work/failing"

mount -t tmpfs -o size=12m tmpfs "$work/small"
mount -t tmpfs -o size=80m tmpfs "$work/full"

truncate -s 200M "$work/read-only.img"
mkfs.ext4 -q "$work/read-only.img"
loop=$(losetup -f --show "$work/read-only.img") && loops+=("$loop")
mount "$loop" "$work/read-only"

LANTERN_FOLDING_DISK="$work/folding" LANTERN_LINKLESS_DISK="$work/folding" LANTERN_FAILING_DISK="$work/failing" \
  LANTERN_FAILING_DISK_GROW="mount -o remount,size=300m $work/backing" LANTERN_SMALL_DISK="$work/small" \
  cargo test --locked -p lantern-store --features other-disks --test disks -- --test-threads 1

LANTERN_FULL_DISK="$work/full" LANTERN_READ_ONLY_DISK="$work/read-only" \
  cargo test --locked -p kind-lantern --features other-disks --test it -- disks:: --test-threads 1
