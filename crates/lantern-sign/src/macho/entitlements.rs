//! Entitlements as a signature holds them: the property list as it was given, and the same in DER.
//!
//! Source: Apple's technical note 3125, "Entitlements"
//! (<https://developer.apple.com/documentation/technotes/tn3125-inside-code-signing-provisioning-profiles>), and public bundles for the bytes:
//! `[APPLICATION 16]` with the version 1 and a dictionary `[16]`, whose members are a SEQUENCE of a key and a value each, sorted by their keys.

use lantern_formats::plist::{self, Dictionary, Value};
use lantern_keys::der;

use crate::SignError;
use crate::plist::{Item, write};

const ENTITLEMENTS: u8 = 0x70;
const DICTIONARY: u8 = 0xb0;
const BOOLEAN: u8 = 0x01;

/// What a program may do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entitlements {
    xml: Vec<u8>,
    pub(super) all: Dictionary,
}

impl Entitlements {
    /// Those of a property list, which stands in signatures as it is where it is one in XML.
    ///
    /// # Errors
    /// [`SignError::Refused`] for what is no property list, or has values that no entitlement has.
    pub fn read(bytes: &[u8]) -> Result<Self, SignError> {
        let no_list = || {
            SignError::refused("the entitlements are no property list with a dictionary", "write them as one in XML")
        };
        let all = plist::read(bytes.trim_ascii_start()).map_err(|_| no_list())?;
        if bytes.starts_with(b"bplist") {
            return Self::of(all);
        }
        // Asked for now, so that it is refused before anything is signed.
        dictionary(&all)?;
        Ok(Self { xml: bytes.to_vec(), all })
    }

    /// Those of a dictionary, which is written as a property list.
    ///
    /// # Errors
    /// [`SignError::Refused`] for values that no entitlement has.
    pub fn of(all: Dictionary) -> Result<Self, SignError> {
        dictionary(&all)?;
        let xml = write(&item(&Value::Dictionary(all.clone()))?).into_bytes();
        Ok(Self { xml, all })
    }

    /// As a property list.
    pub fn xml(&self) -> &[u8] {
        &self.xml
    }

    /// Words and their values.
    pub fn all(&self) -> &Dictionary {
        &self.all
    }

    /// Whether something is allowed.
    pub(super) fn is_on(&self, name: &str) -> bool {
        self.all.get(name) == Some(&Value::Flag(true))
    }

    /// In DER.
    pub(super) fn der(&self) -> Result<Vec<u8>, SignError> {
        Ok(der::value(ENTITLEMENTS, &[&der::integer(1), &dictionary(&self.all)?]).to_vec())
    }
}

fn other() -> SignError {
    SignError::refused(
        "the entitlements have a value that is neither a text, a number, yes or no, nor a list of such",
        "change it",
    )
}

/// The keys of a dictionary stand sorted by their bytes.
fn dictionary(members: &Dictionary) -> Result<Vec<u8>, SignError> {
    let pair = |(key, value): (&String, &Value)| {
        Ok(der::sequence(&[&der::value(der::UTF8_STRING, &[key.as_bytes()]), &self::value(value)?]).to_vec())
    };
    let members: Vec<Vec<u8>> = members.iter().map(pair).collect::<Result<_, SignError>>()?;
    Ok(der::value(DICTIONARY, &[&members.concat()]).to_vec())
}

fn value(value: &Value) -> Result<Vec<u8>, SignError> {
    Ok(match value {
        Value::Flag(is_on) => der::value(BOOLEAN, &[&[if *is_on { 0xff } else { 0 }]]).to_vec(),
        Value::Text(text) => der::value(der::UTF8_STRING, &[text.as_bytes()]).to_vec(),
        Value::Number(number) => number_of(*number),
        Value::List(values) => {
            let values: Vec<Vec<u8>> = values.iter().map(self::value).collect::<Result<_, _>>()?;
            der::sequence(&[&values.concat()]).to_vec()
        }
        Value::Dictionary(members) => dictionary(members)?,
        _ => return Err(other()),
    })
}

/// A number in as few bytes as hold it (ITU-T X.690, section 8.3.2).
fn number_of(number: i64) -> Vec<u8> {
    let digits = number.to_be_bytes();
    let is_spare =
        |pair: &&[u8]| matches!(pair, [0, next] if *next < 0x80) || matches!(pair, [0xff, next] if *next >= 0x80);
    let spare = digits.windows(2).take_while(is_spare).count();
    der::value(der::INTEGER, &[digits.get(spare..).unwrap_or_default()]).to_vec()
}

fn item(value: &Value) -> Result<Item, SignError> {
    Ok(match value {
        Value::Flag(true) => Item::True,
        Value::Flag(false) => Item::False,
        Value::Text(text) => Item::Text(text.clone()),
        Value::Number(number) => Item::Number(*number),
        Value::List(values) => Item::List(values.iter().map(item).collect::<Result<_, _>>()?),
        Value::Dictionary(members) => {
            let members = members.iter().map(|(key, value)| Ok((key.clone(), item(value)?)));
            Item::Dictionary(members.collect::<Result<_, SignError>>()?)
        }
        _ => return Err(other()),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The bytes of a public bundle's, with other words.
    #[test]
    fn the_bytes_that_systems_read() {
        let list = "\n<plist><dict><key>b</key><array><string>x</string></array><key>a</key><true/>
            <key>n</key><integer>-129</integer><key>d</key><dict><key>e</key><false/></dict></dict></plist>";
        let found = Entitlements::read(list.as_bytes()).unwrap();
        let der = found.der().unwrap();
        let wanted = b"\x70\x34\x02\x01\x01\xb0\x2f\
            \x30\x06\x0c\x01a\x01\x01\xff\
            \x30\x08\x0c\x01b\x30\x03\x0c\x01x\
            \x30\x0d\x0c\x01d\xb0\x08\x30\x06\x0c\x01e\x01\x01\x00\
            \x30\x07\x0c\x01n\x02\x02\xff\x7f";
        assert_eq!(der[7..], wanted[7..]);
        assert_eq!(found.xml(), list.as_bytes(), "as it was given, white space before it and all");
        assert_eq!(Entitlements::of(found.all.clone()).unwrap().der().unwrap(), der);
        for wrong in ["", "<plist><array/></plist>", "<plist><dict><key>a</key><data>Zm9v</data></dict></plist>"] {
            assert!(Entitlements::read(wrong.as_bytes()).is_err(), "{wrong}");
        }
        assert_eq!([0, 127, 128, -1, -128, -129].map(|n| number_of(n).len()), [3, 3, 4, 3, 3, 4]);
    }
}
