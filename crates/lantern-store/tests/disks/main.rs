//! Installing onto disks of other kinds than the usual one: one that takes `Data` and `data` for one name and has no
//! links, one that fails for a moment while it is written, one that is too small. `scripts/other-disks.sh` makes them and
//! runs this.

#[cfg(test)]
mod disks;
