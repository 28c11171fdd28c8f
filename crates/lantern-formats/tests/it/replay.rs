//! What fuzzing started from and what it found, as it is and with changes.

use std::path::Path;

use crate::readers;

/// Changed copies of each file that are read; `LANTERN_ROUNDS` has more of them read.
const ROUNDS: usize = 60;

/// Numbers that look as if they came by chance, and are the same in every run (Marsaglia, "Xorshift RNGs", 2003).
struct Chance(u64);

impl Chance {
    fn next(&mut self, below: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % below.max(1) as u64) as usize
    }
}

/// Changes some bytes, cuts some out, doubles some, or puts numbers at their limits in.
fn changed(bytes: &[u8], chance: &mut Chance) -> Vec<u8> {
    let mut out = bytes.to_vec();
    for _ in 0..=chance.next(4) {
        let at = chance.next(out.len());
        let len = chance.next(16).min(out.len() - at);
        match chance.next(5) {
            0 => out[at..].iter_mut().take(len).for_each(|b| *b ^= 1 << chance.next(8)),
            1 => drop(out.drain(at..at + len)),
            2 => {
                let part = out[at..at + len].to_vec();
                let to = chance.next(out.len());
                out.splice(to..to, part);
            }
            3 => out.truncate(at.max(1)),
            _ => {
                let limits = [[0xff; 4], [0; 4], [0xff, 0xff, 0xff, 0x7f], [0x7f, 0xff, 0xff, 0xff], [0, 0, 0, 0x80]];
                let limit = limits[chance.next(limits.len())];
                out.iter_mut().skip(at).zip(limit).for_each(|(b, limit)| *b = limit);
            }
        }
        if out.is_empty() {
            return out;
        }
    }
    out
}

#[test]
fn no_reader_panics() {
    let rounds = std::env::var("LANTERN_ROUNDS").ok().and_then(|rounds| rounds.parse().ok()).unwrap_or(ROUNDS);
    let seeds = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/seeds");
    for (name, _) in readers::ALL {
        let files: Vec<_> = std::fs::read_dir(seeds.join(name)).unwrap().map(|entry| entry.unwrap().path()).collect();
        assert!(!files.is_empty(), "{name} has nothing to start from");
        for file in files {
            let bytes = std::fs::read(&file).unwrap();
            // Every reader gets every file: what is one thing may be named as another.
            readers::ALL.iter().for_each(|(_, read)| read(&bytes));
            let mut chance = Chance(bytes.len() as u64 + 0x9e37_79b9);
            for _ in 0..rounds {
                readers::read_as(name, &changed(&bytes, &mut chance));
            }
        }
    }
}
