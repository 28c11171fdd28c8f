use proptest::prelude::*;
use std::sync::LazyLock;

use super::*;
use crate::key::Algorithm;
use crate::keyring;

const ROUNDS: u32 = 1000;

static KEY: LazyLock<Entry> = LazyLock::new(|| {
    let now = "2026-11-28T12:00:00Z".parse().unwrap();
    keyring::make(Algorithm::P256, &crate::certificate::name_of_studio("Paper Heron"), 30, now).unwrap()
});

static SET: LazyLock<Set> = LazyLock::new(|| Set::of(&KEY, 3, 5, ROUNDS).unwrap());

fn read(texts: &[String]) -> Result<Recovered, KeyError> {
    let mut read = Read::default();
    for (number, text) in texts.iter().enumerate() {
        read.file(&format!("file {number}"), text.as_bytes())?;
    }
    read.open()
}

fn said(texts: &[String]) -> String {
    read(texts).unwrap_err().to_string()
}

fn line(sheet: usize) -> String {
    SET.shares[sheet - 1].line().to_string()
}

fn store() -> String {
    SET.store_lines().join("\n")
}

#[test]
fn any_three_of_five_bring_the_key_back_and_two_do_not() {
    for (a, b, c) in [(1, 2, 3), (1, 3, 5), (2, 4, 5), (5, 4, 3)] {
        let found = read(&[line(a), line(b), line(c), store()]).unwrap();
        assert_eq!(found.entry.key.public(), KEY.key.public());
        assert_eq!((found.set.as_str(), found.needed), (SET.name.as_str(), 3));
    }
    let all: Vec<String> = (1..=5).map(line).chain([store()]).collect();
    assert!(read(&all).is_ok(), "more than are needed do no harm");
    let few = said(&[line(1), line(2), line(2), store()]);
    assert_eq!(few, format!("there are 2 sheets of the set {}, and 3 are needed", SET.name));
}

#[test]
fn words_and_codes_and_the_file_itself_do_the_same() {
    let words = |sheet: usize| {
        let numbered =
            SET.shares[sheet - 1].words().into_iter().zip(1..).map(|(word, number)| format!("{number:2}. {word}"));
        numbered.collect::<Vec<_>>().join(if sheet == 2 { "\n" } else { "  " })
    };
    assert!(read(&[words(1), line(4).to_lowercase(), words(2).to_uppercase(), store()]).is_ok());
    let mut read = Read::default();
    for sheet in 1..=3 {
        read.file("words", words(sheet).as_bytes()).unwrap();
    }
    read.file("store.p12", &SET.store).unwrap();
    assert!(read.open().is_ok());
}

#[test]
fn what_was_read_wrongly_is_named() {
    let words = SET.shares[0].words().join(" ");
    let other = words.replacen(SET.shares[0].words()[10], "lantren", 1);
    assert_eq!(said(&[other]), "file 0: \"lantren\" is not one of the words on a sheet; is it lantern?");
    let first = SET.shares[0].words();
    let mut swapped = first.clone();
    let at = (6..37).find(|at| swapped[*at] != swapped[at + 1]).unwrap();
    swapped.swap(at, at + 1);
    assert_eq!(said(&[swapped.join(" ")]), "file 0: the words were read wrongly: the checksum does not fit");
    assert!(said(&[first[..39].join(" ")]).contains("file 0, with 39 words, has no share of a key"));
    assert!(said(&["Dear keepers, the tide is out.".to_owned()]).contains("has no share of a key"));
    let mut broken = line(1);
    let digit = if broken.as_bytes()[40] == b'A' { "B" } else { "A" };
    broken.replace_range(40..41, digit);
    assert_eq!(said(&[broken]), "file 0: a code was read wrongly: the checksum does not fit");
    // Codes of the store that were not read.
    let lines = SET.store_lines();
    assert!(lines.len() > 1, "the test needs several");
    let three = [line(1), line(2), line(3)];
    assert_eq!(said(&three), "the encrypted key is not whole: none of its codes was read");
    let without: Vec<String> = three.iter().cloned().chain([lines[0].clone()]).collect();
    let missing: Vec<String> = (2..=lines.len()).map(|part| part.to_string()).collect();
    assert_eq!(said(&without), format!("the encrypted key is not whole: part {} is missing", missing.join(", ")));
}

#[test]
fn sheets_of_two_sets_are_not_mixed() {
    let other = Set::of(&KEY, 3, 5, ROUNDS).unwrap();
    let mixed = said(&[line(1), line(2), other.shares[2].line().to_string(), store()]);
    assert_eq!(mixed, format!("these sheets are of different sets: {} and {}", SET.name, other.name));
    let stores = said(&[line(1), line(2), line(3), other.store_lines().join(" ")]);
    assert_eq!(stores, format!("the encrypted key is of another set than the sheets ({})", SET.name));
    // One that someone made up, checksum and all.
    let mut wrong = SET.shares[2].clone();
    wrong.bytes[0] ^= 1;
    assert!(said(&[line(1), line(2), wrong.line().to_string(), store()]).contains("do not open the encrypted key"));
    assert_eq!(said(&[line(3), wrong.line().to_string()]), "sheet 3 is there twice, and the two differ");
}

#[test]
fn numbers_that_cannot_be() {
    for (needed, of) in [(0, 0), (1, 5), (3, 2), (2, 17), (255, 255)] {
        let error = Set::of(&KEY, needed, of, ROUNDS).unwrap_err().to_string();
        assert!(error.contains("cannot be made: at least 2 must be needed"), "{error}");
    }
    assert_eq!(Set::of(&KEY, 2, 2, ROUNDS).unwrap().shares.len(), 2);
    assert_eq!(Set::of(&KEY, 16, 16, ROUNDS).unwrap().shares.len(), 16);
}

/// A text that begins with the character `0` begins as a PKCS #12 file does.
#[test]
fn a_text_is_not_taken_for_the_encrypted_key() {
    let read = |text: &str| Read::default().file("notes.txt", text.as_bytes());
    assert!(matches!(read("0 sheets found"), Err(SheetError::NoShare { .. })));
    assert!(matches!(read("0"), Err(SheetError::NoShare { .. })));
    let text = format!("0 is the number of this sheet\n{}", line(1));
    let mut three = Read::default();
    for text in [text, line(2), line(3), store()] {
        three.file("sheet", text.as_bytes()).unwrap();
    }
    three.open().unwrap();
}

#[test]
fn nothing_secret_is_shown() {
    let shown = format!("{:?} {:?} {:?}", *SET, SET.shares[0], read(&[line(1), line(2), line(3), store()]));
    assert!(!shown.contains(&SET.shares[0].digits()[..8]), "{shown}");
}

/// From RFC 4648, section 10.
#[test]
fn base_32_is_that_of_its_rfc() {
    for (plain, coded) in
        [("", ""), ("f", "MY"), ("fo", "MZXQ"), ("foo", "MZXW6"), ("foob", "MZXW6YQ"), ("foobar", "MZXW6YTBOI")]
    {
        assert_eq!(base32(plain.as_bytes()), coded);
        assert_eq!(of_base32(coded).unwrap(), plain.as_bytes());
    }
    assert_eq!((of_base32("M"), of_base32("MZ"), of_base32("1")), (None, None, None));
}

proptest! {
    #[test]
    fn any_text_is_read_or_refused(text in "\\PC*", bytes: Vec<u8>, at: prop::sample::Index, letter in "[A-Z0-9:]") {
        let mut read = Read::default();
        let _ = read.file("text", text.as_bytes());
        let _ = read.file("bytes", &bytes);
        let mut line = line(1);
        let at = at.index(line.len());
        let same = line.get(at..=at) == Some(letter.as_str());
        line.replace_range(at..=at, &letter);
        prop_assert_eq!(Read::default().file("line", line.as_bytes()).is_ok(), same);
    }

    #[test]
    fn base_32_there_and_back(bytes: Vec<u8>) {
        prop_assert_eq!(of_base32(&base32(&bytes)), Some(bytes));
    }
}
