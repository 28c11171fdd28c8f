//! Words for bytes, to be read aloud and typed: four to eight letters, no two that begin with the same four, none that becomes another
//! one by changing two letters.

use lantern_core::names::nearest;

/// The word of each byte, in the order of the alphabet.
#[rustfmt::skip]
const WORDS: [&str; 256] = [
    "acorn", "alder", "almond", "anchor", "anvil", "apron", "arch", "ashes", "atlas", "autumn", "badger", "bamboo",
    "banjo", "barley", "basil", "basket", "bayou", "beacon", "beaver", "bedrock", "beetle", "bellow", "berry",
    "biscuit", "bishop", "blossom", "bobbin", "bonfire", "boulder", "bramble", "breeze", "bridge", "buffalo",
    "bugle", "bunting", "butter", "cabin", "cactus", "calico", "camera", "candle", "canvas", "captain", "caramel",
    "cargo", "carpet", "cedar", "chalk", "chapel", "cheese", "chimney", "cinder", "circle", "citrus", "clover",
    "cobalt", "cocoa", "coffee", "comet", "compass", "copper", "cotton", "cousin", "crater", "cricket", "crystal",
    "cuckoo", "cushion", "cypress", "daisy", "dapple", "dawn", "delta", "desert", "dinghy", "dolphin", "donkey",
    "dragon", "drizzle", "dune", "echo", "eclipse", "ember", "engine", "evening", "fabric", "falcon", "farmer",
    "feather", "fennel", "fern", "fiddle", "field", "finch", "flint", "flour", "flute", "foggy", "forest", "fossil",
    "freckle", "furnace", "gallop", "garden", "garlic", "gazelle", "glacier", "goblet", "goose", "granite", "grape",
    "guitar", "gully", "hammock", "harbour", "harvest", "hedge", "helmet", "hickory", "horizon", "hornet", "iceberg",
    "igloo", "indigo", "island", "ivory", "jasmine", "jetty", "jigsaw", "journey", "juniper", "kayak", "kingdom",
    "kitchen", "lagoon", "lantern", "lava", "lemon", "leopard", "lilac", "linen", "lizard", "lobster", "locket",
    "lupin", "magnet", "marble", "meadow", "meteor", "mirror", "mitten", "monsoon", "morning", "mosaic", "muffin",
    "mustard", "napkin", "nectar", "nickel", "noodle", "nutmeg", "oatmeal", "ocean", "olive", "onion", "opal",
    "orange", "orchard", "oxygen", "palace", "panther", "paper", "pasture", "peach", "pebble", "pelican", "phantom",
    "piano", "picnic", "pigeon", "pirate", "plum", "polar", "poppy", "potato", "powder", "prairie", "pumpkin",
    "puzzle", "quartz", "quilt", "quiver", "rabbit", "radish", "raft", "ragged", "rainbow", "raven", "reed",
    "ribbon", "rosemary", "ruby", "rudder", "saffron", "sailor", "sandal", "sapphire", "seagull", "shelter",
    "shovel", "silver", "skipper", "spade", "sparrow", "spinach", "sponge", "spruce", "squirrel", "stable",
    "starling", "sugar", "summer", "sunset", "swallow", "tabby", "tartan", "teapot", "temple", "thimble", "thunder",
    "tiger", "tinsel", "tortoise", "towel", "tractor", "treasure", "trout", "trumpet", "tulip", "tundra", "turtle",
    "twilight", "umbrella", "uncle", "vanilla", "vessel", "village", "violet", "voyage", "walnut", "whisper",
    "widow", "wolf", "wombat", "woollen", "zebra",
];

/// The words of bytes.
pub(super) fn of(bytes: &[u8]) -> Vec<&'static str> {
    bytes.iter().filter_map(|byte| WORDS.get(usize::from(*byte)).copied()).collect()
}

/// The byte of a word.
pub(super) fn byte(word: &str) -> Option<u8> {
    WORDS.binary_search(&word.to_lowercase().as_str()).ok().and_then(|place| u8::try_from(place).ok())
}

/// The word that may be meant by one that is not in the list. It takes a while: it is for one word, and not for a text.
pub(super) fn near(word: &str) -> Option<&'static str> {
    nearest(word, WORDS)
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    /// Letters that have to be added, left out or changed.
    fn distance(one: &str, other: &str) -> usize {
        let mut row: Vec<usize> = (0..=other.len()).collect();
        for (i, a) in one.bytes().enumerate() {
            let mut next = vec![i + 1];
            for (j, b) in other.bytes().enumerate() {
                next.push((next[j] + 1).min(row[j + 1] + 1).min(row[j] + usize::from(a != b)));
            }
            row = next;
        }
        row[other.len()]
    }

    #[test]
    fn no_word_is_mistaken_for_another() {
        assert!(WORDS.is_sorted() && WORDS.iter().all(|word| (4..=8).contains(&word.len())));
        let begin: BTreeSet<&str> = WORDS.iter().map(|word| &word[..4]).collect();
        assert_eq!(begin.len(), WORDS.len());
        for (place, one) in WORDS.iter().enumerate() {
            for other in &WORDS[place + 1..] {
                assert!(distance(one, other) > 2, "{one} {other}");
            }
        }
    }

    #[test]
    fn every_byte_has_a_word_and_back() {
        for value in 0..=255 {
            let word = of(&[value])[0];
            assert_eq!((byte(word), byte(&word.to_uppercase())), (Some(value), Some(value)));
        }
        assert_eq!((byte("lantren"), near("lantren")), (None, Some("lantern")));
        assert_eq!((byte("xyzzy"), near("xyzzy")), (None, None));
    }
}
