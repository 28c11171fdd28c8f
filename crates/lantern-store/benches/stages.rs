//! Bytes a second of each stage between a file and a player's folder: `cargo bench -p lantern-store`.
//!
//! Each line is the best of several rounds over the same made-up data: half of it as good as random, half repeating.

use std::hint::black_box;
use std::io::{self, Read, Write};
use std::time::{Duration, Instant};

use lantern_chunker::Profile;
use lantern_core::digest::{Digest, RecipeId};
use lantern_core::path::TreePath;
use lantern_core::progress::Silent;
use lantern_store::codec::difference::NoBases;
use lantern_store::codec::{Codec, Packer, Unpacker};
use lantern_store::install::{self, UpdateOffer};
use lantern_store::pack::{self, PackWriter};
use lantern_store::recipe::different_chunks;
use lantern_store::seal::{Source, SourceEntry, SourceKind, seal};
use lantern_store::store::Store;
use lantern_store::updates::Comparison;

const LEN: usize = 64 * 1024 * 1024;
const ROUNDS: usize = 5;

struct Made(Vec<u8>);

impl Source for Made {
    fn open(&self, _: usize) -> io::Result<Box<dyn Read + '_>> {
        Ok(Box::new(self.0.as_slice()))
    }
    fn is_executable(&self, _: usize, _: &[u8]) -> bool {
        false
    }
    fn is_unchanged(&self, _: usize) -> io::Result<bool> {
        Ok(true)
    }
}

fn data() -> Vec<u8> {
    let mut noise = vec![0; LEN / 2];
    blake3::Hasher::new().finalize_xof().fill(&mut noise);
    let mut out = Vec::with_capacity(LEN);
    for part in noise.chunks(4096) {
        out.extend(part);
        out.extend(noise[..64].iter().cycle().take(part.len()));
    }
    out
}

fn measure(name: &str, bytes: u64, mut work: impl FnMut()) {
    let mut best = Duration::MAX;
    for _ in 0..ROUNDS {
        let started = Instant::now();
        work();
        best = best.min(started.elapsed());
    }
    let rate = bytes as f64 / 1e6 / best.as_secs_f64();
    let _ = writeln!(io::stdout(), "{name:<34} {rate:>9.0} MB/s");
}

fn main() {
    let data = data();
    let len = data.len() as u64;
    let temp = tempfile::tempdir().expect("a temporary folder");
    let file = temp.path().join("file");
    std::fs::write(&file, &data).expect("room for the data");
    measure("read a file", len, || {
        let mut buffer = vec![0; 1024 * 1024];
        let mut file = std::fs::File::open(&file).expect("it was written");
        while file.read(&mut buffer).expect("it can be read") > 0 {
            black_box(&buffer);
        }
    });
    let mut cuts = Vec::new();
    measure("cut", len, || {
        cuts.clear();
        let mut rest = data.as_slice();
        while !rest.is_empty() {
            let (chunk, others) = rest.split_at(Profile::Medium.cut(rest));
            cuts.push(chunk);
            rest = others;
        }
    });
    measure("hash", len, || {
        black_box(Digest::of(&data));
    });
    let mut packed: Vec<(Digest, Codec, u32, Vec<u8>)> = Vec::new();
    measure("compress", len, || {
        let mut packer = Packer::new();
        packed.clear();
        for chunk in &cuts {
            let (codec, stored) = packer.pack(chunk);
            packed.push((Digest::of(chunk), codec, u32::try_from(chunk.len()).unwrap_or(0), stored.to_vec()));
        }
    });
    let stored: u64 = packed.iter().map(|(.., stored)| stored.len() as u64).sum();
    let mut packs = Vec::new();
    measure("pack", stored, || {
        let mut writer = PackWriter::new();
        packs.clear();
        for (digest, codec, raw_len, stored) in &packed {
            writer.push(*digest, *codec, *raw_len, stored);
            if writer.is_full() {
                packs.push(writer.take());
            }
        }
        packs.push(writer.take());
    });
    measure("check packs that came", len, || {
        for (name, bytes, _) in &packs {
            pack::verify(*name, bytes, &NoBases).expect("they are whole");
        }
    });
    measure("unpack", len, || {
        let mut unpacker = Unpacker::new();
        for (_, codec, raw_len, stored) in &packed {
            black_box(unpacker.unpack(*codec, stored, *raw_len as usize, &NoBases).expect("it is whole"));
        }
    });
    let entry = SourceEntry { path: TreePath::new("file").expect("a name"), kind: SourceKind::File { size: len } };
    let source = Made(data);
    let mut sealed = None;
    let mut round = 0;
    measure("seal, everything new", len, || {
        round += 1;
        let store = Store::at(temp.path().join(format!("store-{round}")));
        sealed = Some(seal(&store, std::slice::from_ref(&entry), &source, &Silent).expect("there is room"));
    });
    let (store, sealed) = (Store::at(temp.path().join("store-1")), sealed.expect("it was sealed"));
    measure("have or need", len, || {
        let (_, entries) = store.recipe(sealed.recipe).expect("it is there");
        let known = store.known_chunks().expect("packs are there");
        black_box(different_chunks(&entries).iter().filter(|chunk| !known.contains(chunk)).count());
    });
    let install = |recipe: RecipeId, name: &str, updates: &[UpdateOffer]| {
        let wanted = install::Wanted {
            recipes: &[recipe],
            about: serde_json::Value::Null,
            own_files: Default::default(),
            private: None,
            updates,
            read_all: false,
        };
        install::install(&temp.path().join(name), wanted, &store, &Silent).expect("there is room")
    };
    measure("install, everything new", len, || {
        round += 1;
        install(sealed.recipe, &format!("player-{round}"), &[]);
    });
    let Made(mut edited) = source;
    for at in (1_000..LEN).step_by(500_000) {
        edited[at] ^= 1;
    }
    edited.splice(LEN / 3..LEN / 3, *b"a letter that came with the tide");
    let size = edited.len() as u64;
    let entry = SourceEntry { kind: SourceKind::File { size }, ..entry };
    let next = seal(&store, std::slice::from_ref(&entry), &Made(edited), &Silent).expect("there is room");
    let mut bytes = 0;
    measure("make an update file", size, || {
        let _ = std::fs::remove_dir_all(store.root().join("updates"));
        let both = Comparison::open(&store, sealed.recipe, next.recipe).expect("both are there");
        bytes = both.make(u64::MAX, &Silent).expect("there is room").expect("it is shorter");
    });
    let players: Vec<String> = (0..ROUNDS).map(|player| format!("next-{player}")).collect();
    players.iter().for_each(|player| drop(install(sealed.recipe, player, &[])));
    let offer = UpdateOffer { from: sealed.recipe, to: next.recipe, bytes };
    let mut left = players.iter();
    measure("update by it", size, || {
        install(next.recipe, left.next().expect("one for each round"), &[offer]);
    });
}
