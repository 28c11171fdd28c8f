//! How long the documents of a build can be: bounds that readers keep to, no matter who sent them.

/// Largest root of a recipe, in bytes: a million segments, a billion chunks.
pub const MAX_ROOT_LEN: u64 = 64 * 1024 * 1024;
/// Largest segment of a recipe, in bytes, packed and unpacked: 4096 items with the longest paths.
pub const MAX_SEGMENT_LEN: u64 = 40 * 1024 * 1024;
/// Largest locator of a segment, in bytes: 4096 chunks, each in a pack of its own.
pub const MAX_LOCATOR_LEN: u64 = 1024 * 1024;

#[cfg(test)]
mod tests {
    use std::str::FromStr;

    use crate::config::Config;
    use crate::names::{FolderName, Handle, Identity, Name};
    use crate::path::{MAX_PATH_LEN, TreePath};
    use crate::release::{MAX_RECORD_LEN, ReleaseRecord};
    use crate::version::{BuildNumber, Version};

    /// A text of exactly `most` bytes is taken, and none that is a byte longer.
    fn ends_at<T: FromStr>(most: usize, text: impl Fn(usize) -> String) {
        let (last, over) = (text(most), text(most + 1));
        assert_eq!((last.len(), over.len()), (most, most + 1));
        assert!(last.parse::<T>().is_ok(), "{last}");
        assert!(over.parse::<T>().is_err(), "{over}");
        assert!("".parse::<T>().is_err(), "an empty one");
    }

    #[test]
    fn names_end_where_the_documents_say() {
        ends_at::<Name>(64, |len| "a".repeat(len));
        ends_at::<Identity>(155, |len| format!("a.{}", "b".repeat(len - 2)));
        ends_at::<Handle>(255, |len| "H".repeat(len));
        ends_at::<Version>(64, |len| format!("1{}", "0".repeat(len - 1)));
        ends_at::<FolderName>(100, |len| "s".repeat(len));
        // In bytes: file systems count them, whatever they spell.
        ends_at::<FolderName>(100, |len| format!("{}{}", "ü".repeat(len / 2), "s".repeat(len % 2)));
        ends_at::<Handle>(255, |len| format!("{}{}", "ü".repeat(len / 2), "s".repeat(len % 2)));
    }

    #[test]
    fn a_folder_named_for_a_game_is_never_too_long() {
        for title in ["s".repeat(101), "ü".repeat(60), "塩".repeat(40), format!("{}.", "ü".repeat(50))] {
            let folder = FolderName::of_title(&title);
            assert!((90..=100).contains(&folder.as_str().len()), "{folder}");
        }
    }

    #[test]
    fn paths_and_numbers_end_where_the_documents_say() {
        assert!(TreePath::new("b".repeat(MAX_PATH_LEN)).is_ok());
        assert!(TreePath::new("b".repeat(MAX_PATH_LEN + 1)).is_err());
        let most = u64::from(BuildNumber::MAX);
        assert!(BuildNumber::new(1).is_ok() && BuildNumber::new(most).is_ok());
        assert!(BuildNumber::new(0).is_err() && BuildNumber::new(most + 1).is_err());
        assert!(BuildNumber::after(BuildNumber::new(most).ok()).is_err());
    }

    #[test]
    fn documents_that_are_longer_than_any_real_one_cost_little() {
        let long = "x".repeat(usize::try_from(MAX_RECORD_LEN).unwrap() + 1);
        assert!(ReleaseRecord::decode(long.as_bytes()).is_err());
        assert!(Config::read("lantern.toml", &long).is_err());
    }
}
