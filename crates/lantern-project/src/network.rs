//! Disks of other computers: a ledger there could be written by two at once, whatever its locks say.

use std::path::Path;

/// Kinds of file systems that lie on other computers. Source: Linux, `include/uapi/linux/magic.h`.
#[cfg(any(target_os = "linux", test))]
const NETWORK: [u32; 6] = [
    0x6969,      // NFS
    0x517b,      // SMB
    0xff53_4d42, // CIFS
    0xfe53_4d42, // SMB2
    0x564c,      // NCP
    0x5346_414f, // AFS
];

#[cfg(any(target_os = "linux", test))]
fn is_network_kind(kind: u32) -> bool {
    NETWORK.contains(&kind)
}

/// Whether a folder lies on another computer's disk; one of which it is not known does not.
#[cfg(target_os = "linux")]
pub(crate) fn is_network(folder: &Path) -> bool {
    // The kernel's type for it differs between processors; the value fits 32 bits everywhere.
    let kind = |stat: rustix::fs::StatFs| u32::try_from(i128::from(stat.f_type) & 0xffff_ffff).unwrap_or(0);
    rustix::fs::statfs(folder).is_ok_and(|stat| is_network_kind(kind(stat)))
}

/// Windows names such folders by computer and share, also behind a drive's letter once the path is resolved.
#[cfg(windows)]
pub(crate) fn is_network(folder: &Path) -> bool {
    use std::path::{Component, Prefix};
    let Ok(resolved) = folder.canonicalize() else { return false };
    let first = resolved.components().next();
    matches!(first, Some(Component::Prefix(p)) if matches!(p.kind(), Prefix::UNC(..) | Prefix::VerbatimUNC(..)))
}

/// Elsewhere it is not known.
#[cfg(not(any(target_os = "linux", windows)))]
pub(crate) fn is_network(_: &Path) -> bool {
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_and_this_computers_own_disk() {
        assert!(is_network_kind(0x6969) && is_network_kind(0xff53_4d42));
        // ext4, tmpfs
        assert!(!is_network_kind(0xef53) && !is_network_kind(0x0102_1994));
        assert!(!is_network(&std::env::temp_dir()));
    }
}
