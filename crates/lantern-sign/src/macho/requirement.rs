//! What a system demands of a program that claims to be this one: the designated requirement, and what is known of the identity behind it.
//!
//! Source: Apple's technical note 3127, "Inside Code Signing: Requirements"
//! (<https://developer.apple.com/documentation/technotes/tn3127-inside-code-signing-requirements>), for the demands by kinds of certificates; for the bytes,
//! `requirement.h` of Apple's published Security library, "Opcodes" and "Match operations"
//! (<https://github.com/apple-oss-distributions/Security/blob/main/OSX/libsecurity_codesigning/lib/requirement.h>), and public bundles.

use lantern_core::bytes::hex;
use lantern_formats::hash::Hash;
use lantern_keys::certificate::{self, Words};

use crate::SignError;

const MAGIC_SET: u32 = 0xfade_0c01;
const MAGIC: u32 = 0xfade_0c00;
/// The kind of requirement that says which program this is.
const DESIGNATED: u32 = 3;
/// The form that is an expression.
const EXPRESSION: u32 = 1;
const IDENTIFIER: u32 = 2;
const ANCHOR: u32 = 4;
const AND: u32 = 6;
const FIELD: u32 = 11;
const EXTENSION: u32 = 14;
const ANCHOR_OF_VENDOR: u32 = 15;
const EXISTS: u32 = 0;
const EQUAL: u32 = 1;
const LEAF: u32 = 0;
const ROOT: u32 = u32::MAX;

/// 1.2.840.113635.100.6: what certificates of the systems' vendor are marked by.
const MARKS: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x63, 0x64, 6];
/// For programs outside of shops (.1.13), and what issues such (.2.6); what issues those for development and shops (.2.1).
const OUTSIDE: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x63, 0x64, 6, 1, 13];
const ISSUES_OUTSIDE: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x63, 0x64, 6, 2, 6];
const ISSUES: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x63, 0x64, 6, 2, 1];

/// Names of the parts of a certificate's subject: `commonName`, `organizationName`, `organizationalUnitName`.
const COMMON_NAME: &[u8] = &[0x55, 4, 3];
const ORGANIZATION: &[u8] = &[0x55, 4, 10];
const UNIT: &[u8] = &[0x55, 4, 11];

/// A demand of a requirement; all of them have to hold.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Demand {
    Identifier(String),
    /// Its chain ends with a certificate of the systems' vendor.
    OfVendor,
    /// A certificate, by its place in the chain, has an extension: its name in text and in bytes.
    Extension(u32, &'static str, &'static [u8]),
    /// The leaf's subject says something.
    Field(&'static str, String),
    /// A certificate, by its place, is this one.
    Certificate(u32, Vec<u8>),
}

/// What is demanded of a program that claims to be this one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Requirement(Vec<Demand>);

/// What a chain of certificates says of who signs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Identity {
    /// The team, where the certificate is one of the systems' vendor.
    pub team: Option<String>,
    demands: Vec<Demand>,
}

impl Identity {
    /// Reads a chain: the own certificate first.
    pub(crate) fn of(chain: &[Vec<u8>]) -> Result<Self, SignError> {
        let words = |own: &Vec<u8>| certificate::words(own);
        let chain_words: Vec<Words> = chain.iter().map(words).collect::<Result<_, _>>()?;
        let Some(leaf) = chain_words.first() else {
            return Err(lantern_keys::KeyError::NoCertificate { alias: String::new() }.into());
        };
        let has = |number: usize, name: &[u8]| chain_words.get(number).is_some_and(|words| words.has_extension(name));
        let text = |words: &Words, name: &[u8]| words.subject(name).map(str::to_owned);
        let is_of_vendor = leaf.extensions().any(|name| name.starts_with(MARKS));
        let team = text(leaf, UNIT).filter(|_| is_of_vendor);
        let demands = match (&team, text(leaf, COMMON_NAME)) {
            (Some(team), _) if has(0, OUTSIDE) && (has(1, ISSUES_OUTSIDE) || chain.len() == 1) => vec![
                Demand::OfVendor,
                Demand::Extension(1, "1.2.840.113635.100.6.2.6", ISSUES_OUTSIDE),
                Demand::Extension(LEAF, "1.2.840.113635.100.6.1.13", OUTSIDE),
                Demand::Field("subject.OU", team.clone()),
            ],
            (Some(_), Some(name)) if has(1, ISSUES) || chain.len() == 1 => vec![
                Demand::OfVendor,
                Demand::Field("subject.CN", name),
                Demand::Extension(1, "1.2.840.113635.100.6.2.1", ISSUES),
            ],
            _ => vec![Self::same_organisation(chain, &chain_words, text(leaf, ORGANIZATION).as_deref())],
        };
        Ok(Self { team, demands })
    }

    /// The last certificate of the chain that names the leaf's organisation: it outlives the leaf.
    fn same_organisation(chain: &[Vec<u8>], words: &[Words], organisation: Option<&str>) -> Demand {
        let is_same = |words: &&Words| organisation.is_some() && words.subject(ORGANIZATION) == organisation;
        let place = words.iter().take_while(is_same).count().saturating_sub(1);
        let is_root = place > 0 && place + 1 == chain.len() && words.get(place).is_some_and(Words::is_self_issued);
        let hash = chain.get(place).map(|own| Hash::Sha1.digest(own)).unwrap_or_default();
        Demand::Certificate(if is_root { ROOT } else { u32::try_from(place).unwrap_or(LEAF) }, hash)
    }

    /// What is demanded of a program of this name.
    pub(crate) fn requirement(&self, identifier: &str) -> Requirement {
        let first = Demand::Identifier(identifier.to_owned());
        Requirement(std::iter::once(first).chain(self.demands.iter().cloned()).collect())
    }
}

fn padded(bytes: &[u8]) -> Vec<u8> {
    let mut out = u32::try_from(bytes.len()).unwrap_or(u32::MAX).to_be_bytes().to_vec();
    out.extend(bytes);
    out.resize(out.len().next_multiple_of(4), 0);
    out
}

fn words(words: &[u32]) -> Vec<u8> {
    words.iter().flat_map(|word| word.to_be_bytes()).collect()
}

impl Demand {
    fn bytes(&self) -> Vec<u8> {
        match self {
            Self::Identifier(name) => [words(&[IDENTIFIER]), padded(name.as_bytes())].concat(),
            Self::OfVendor => words(&[ANCHOR_OF_VENDOR]),
            Self::Extension(place, _, name) => [words(&[EXTENSION, *place]), padded(name), words(&[EXISTS])].concat(),
            Self::Field(field, value) => {
                [words(&[FIELD, LEAF]), padded(field.as_bytes()), words(&[EQUAL]), padded(value.as_bytes())].concat()
            }
            Self::Certificate(place, hash) => [words(&[ANCHOR, *place]), padded(hash)].concat(),
        }
    }

    fn text(&self) -> String {
        let place = |place: u32| match place {
            LEAF => "leaf".to_owned(),
            ROOT => "root".to_owned(),
            other => other.to_string(),
        };
        let quoted = |text: &str| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""));
        match self {
            Self::Identifier(name) => format!("identifier {}", quoted(name)),
            Self::OfVendor => "anchor apple generic".to_owned(),
            Self::Extension(at, name, _) => format!("certificate {}[field.{name}] /* exists */", place(*at)),
            Self::Field(field, value) => format!("certificate leaf[{field}] = {}", quoted(value)),
            Self::Certificate(at, hash) => format!("certificate {} = H\"{}\"", place(*at), hex(hash)),
        }
    }
}

impl Requirement {
    /// The set of requirements that a signature holds, with this one in it.
    pub(crate) fn set(&self) -> Vec<u8> {
        // Each but the last is joined with all that follow.
        let last = self.0.len().saturating_sub(1);
        let joined = |(number, demand): (usize, &Demand)| {
            let and = if number < last { words(&[AND]) } else { Vec::new() };
            [and, demand.bytes()].concat()
        };
        let expression = self.0.iter().enumerate().map(joined).collect::<Vec<_>>().concat();
        let own = super::blob(MAGIC, &[words(&[EXPRESSION]), expression].concat());
        super::blob(MAGIC_SET, &[words(&[1, DESIGNATED, 20]), own].concat())
    }

    /// In the words that seals have for it.
    pub(crate) fn text(&self) -> String {
        self.0.iter().map(Demand::text).collect::<Vec<_>>().join(" and ")
    }

    /// A set without any.
    pub(super) fn none() -> Vec<u8> {
        super::blob(MAGIC_SET, &words(&[0]))
    }
}
