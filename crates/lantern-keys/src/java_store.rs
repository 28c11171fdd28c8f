//! The older, binary key store of Java. Source: OpenJDK 17, `sun/security/provider/JavaKeyStore.java` and
//! `sun/security/provider/KeyProtector.java` (<https://github.com/openjdk/jdk17u/tree/master/src/java.base/share/classes/sun/security/provider>).
//!
//! | part | holds |
//! |---|---|
//! | head | u32 `feedfeed`, u32 version 1 or 2, u32 number of entries; all numbers have their highest byte first |
//! | entry | u32 1: a key, 2: a certificate; name; u64 milliseconds since 1970 |
//! | of a key | u32 length, the encrypted key; u32 number of certificates, each with its kind and u32 length |
//! | end | SHA-1 of the passphrase in UTF-16, `Mighty Aphrodite`, and everything before |
//!
//! A key is encrypted with bytes that SHA-1 makes of the passphrase: weak, which is why it is only read.

use lantern_formats::hash::Hash;
use zeroize::Zeroizing;

use crate::KeyError;
use crate::certificate;
use crate::der::{self, Reader};
use crate::key::PrivateKey;
use crate::passphrase::Passphrase;
use crate::pkcs12::Entry;

const MAGIC: [u8; 4] = [0xfe, 0xed, 0xfe, 0xed];
const MAX_ENTRIES: u32 = 1_000;
const SALT_LEN: usize = 20;

/// Whether bytes are such a store.
pub fn is_store(bytes: &[u8]) -> bool {
    bytes.starts_with(&MAGIC)
}

struct Cursor<'a>(&'a [u8]);

impl<'a> Cursor<'a> {
    fn take(&mut self, len: usize) -> Result<&'a [u8], KeyError> {
        let (taken, rest) = self.0.split_at_checked(len).ok_or(KeyError::Malformed("the key store: it is cut off"))?;
        self.0 = rest;
        Ok(taken)
    }

    fn number<const N: usize>(&mut self) -> Result<u64, KeyError> {
        Ok(self.take(N)?.iter().fold(0, |value, digit| value << 8 | u64::from(*digit)))
    }

    fn long(&mut self) -> Result<&'a [u8], KeyError> {
        let len = self.number::<4>()?;
        self.take(usize::try_from(len).unwrap_or(usize::MAX))
    }

    fn text(&mut self) -> Result<String, KeyError> {
        let len = self.number::<2>()?;
        Ok(String::from_utf8_lossy(self.take(usize::try_from(len).unwrap_or(usize::MAX))?).into_owned())
    }
}

fn utf16(passphrase: &Passphrase) -> Zeroizing<Vec<u8>> {
    Zeroizing::new(passphrase.text().encode_utf16().flat_map(u16::to_be_bytes).collect())
}

/// Reads the keys of a store. `of_keys` is the passphrase of the keys where it is another one than the store's.
///
/// # Errors
/// As for key files of PKCS #12.
pub fn read(bytes: &[u8], passphrase: &Passphrase, of_keys: Option<&Passphrase>) -> Result<Vec<Entry>, KeyError> {
    let Some((body, stated)) = bytes.len().checked_sub(20).map(|at| bytes.split_at(at)) else {
        return Err(KeyError::Malformed("the key store: it is cut off"));
    };
    if Hash::Sha1.digest_of([&utf16(passphrase)[..], b"Mighty Aphrodite", body]) != stated {
        // A wrong passphrase and a damaged file look the same here.
        return Err(KeyError::Passphrase);
    }
    let mut store = Cursor(body.strip_prefix(&MAGIC).ok_or(KeyError::Malformed("the key store"))?);
    let version = store.number::<4>()?;
    if !matches!(version, 1 | 2) {
        return Err(KeyError::Unsupported(format!("it is a key store of version {version}")));
    }
    let count = store.number::<4>()?;
    if count > MAX_ENTRIES.into() {
        return Err(KeyError::Unsupported(format!("it has more than {MAX_ENTRIES} entries")));
    }
    let certificate = |store: &mut Cursor<'_>| -> Result<Vec<u8>, KeyError> {
        if version == 2 {
            store.text()?;
        }
        Ok(store.long()?.to_vec())
    };
    let mut out = Vec::new();
    for _ in 0..count {
        let kind = store.number::<4>()?;
        let alias = store.text()?;
        store.number::<8>()?;
        match kind {
            1 => {
                let key = unlocked(store.long()?, of_keys.unwrap_or(passphrase))?;
                let len = store.number::<4>()?;
                let chain: Vec<Vec<u8>> =
                    (0..len.min(MAX_ENTRIES.into())).map(|_| certificate(&mut store)).collect::<Result<_, _>>()?;
                let own = chain.first().ok_or_else(|| KeyError::NoCertificate { alias: alias.clone() })?;
                if certificate::public_key(own)? != key.public() {
                    return Err(KeyError::OtherKey);
                }
                out.push(Entry { alias, key, chain });
            }
            2 => {
                certificate(&mut store)?;
            }
            _ => return Err(KeyError::Unsupported("it has entries that are neither keys nor certificates".to_owned())),
        }
    }
    if out.is_empty() { Err(KeyError::NoKey) } else { Ok(out) }
}

fn unlocked(bytes: &[u8], passphrase: &Passphrase) -> Result<PrivateKey, KeyError> {
    let mut info = Reader::new(bytes).inside(der::SEQUENCE, "the encrypted key")?;
    info.inside(der::SEQUENCE, "the key's encryption")?;
    let bytes = info.bytes(der::OCTET_STRING, "the encrypted key")?;
    let (salt, rest) = bytes.split_at_checked(SALT_LEN).ok_or(KeyError::Malformed("the encrypted key"))?;
    let (encrypted, stated) = rest
        .len()
        .checked_sub(20)
        .and_then(|at| rest.split_at_checked(at))
        .ok_or(KeyError::Malformed("the encrypted key"))?;
    let password = utf16(passphrase);
    let mut block = Zeroizing::new(salt.to_vec());
    let mut plain = Zeroizing::new(Vec::with_capacity(encrypted.len()));
    for chunk in encrypted.chunks(20) {
        block = Zeroizing::new(Hash::Sha1.digest_of([&password, &block]));
        plain.extend(chunk.iter().zip(block.iter()).map(|(byte, mask)| byte ^ mask));
    }
    if Hash::Sha1.digest_of([&password, &plain]) != stated {
        return Err(KeyError::KeyPassphrase);
    }
    PrivateKey::from_pkcs8(&plain)
}
