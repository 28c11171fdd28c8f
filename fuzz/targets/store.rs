#![no_main]
//! Trees, roots of recipes, locators and packs: whatever is read is written again as the very same bytes.

use lantern_core::digest::{Digest, RecipeId};
use lantern_core::tree::Tree;
use lantern_store::{locator::Locator, pack, recipe::Root};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Ok(tree) = Tree::decode(bytes) {
        assert_eq!(tree.encode(), bytes);
    }
    if let Ok(root) = Root::decode(RecipeId::of(bytes), bytes) {
        assert_eq!(root.encode(), bytes);
    }
    let recipe = RecipeId::of(b"recipe");
    // What ends a locator is the digest of the rest: made here, so that it is not all that is ever found wrong.
    let closed = [bytes, blake3_of(bytes).as_slice()].concat();
    if let Ok(locator) = Locator::decode(recipe, &closed) {
        assert_eq!(locator.encode(), closed);
    }
    if let Ok(entries) = pack::verify(Digest::of(bytes), bytes) {
        assert!(entries.iter().all(|entry| u64::from(entry.offset) + u64::from(entry.stored_len) <= bytes.len() as u64));
    }
});

fn blake3_of(bytes: &[u8]) -> [u8; 32] {
    *Digest::of(bytes).as_bytes()
}
