//! The signature of a Windows program: whether all of the program is as it was signed, and by whom.
//!
//! Source: "Windows Authenticode Portable Executable Signature Format", version 1.0, "Calculating the PE Image Hash" (linked from
//! <https://learn.microsoft.com/windows-hardware/drivers/install/authenticode>); "PE Format", "The Attribute Certificate Table"; CMS (RFC 5652). The certificate table lies at
//! the end of the file: u32 length, u16 revision 0x0200, u16 type 2, then a CMS message. What is hashed is the file
//! without its checksum, without the entry of the table in the data directory, and without the table.

use std::io::{Read, Seek, SeekFrom};

use lantern_core::size::Size;
use x509_cert::der::asn1::{ObjectIdentifier, OctetStringRef};
use x509_cert::der::{Any, Decode, Reader, SliceReader, Tag, Tagged};

use super::Details;
use crate::hash::{Hash, READ_LEN};
use crate::message::{Message, Signer, hash_of};
use crate::offset_reader::{FormatError, OffsetReader};

const SPC_INDIRECT_DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.311.2.1.4");
/// Largest certificate table that is read, in bytes. Ours: real ones have some tens of kilobytes.
const MAX_TABLE_LEN: u64 = 16 * 1024 * 1024;

fn broken(what: &'static str) -> FormatError {
    FormatError::Value { what, value: 0 }
}

/// What a signature of a program was found to be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signed {
    /// Who signed, and what is wrong with it.
    pub signer: Signer,
    /// Who else signed: further signatures that lie in the first one.
    pub others: Vec<Signer>,
}

/// The digest of a program, taken while it was written.
#[derive(Debug)]
pub struct Known<'a> {
    /// What was hashed, as first byte and the one behind the last, in order.
    pub spans: &'a [(u64, u64)],
    /// The function, and what it gave.
    pub digest: (Hash, &'a [u8]),
}

/// Reads and verifies the signatures of a program; none where it has none. Whether the issuer is to be trusted is not
/// judged.
///
/// # Errors
/// [`FormatError`] when they cannot even be read.
pub fn verify(from: &mut (impl Read + Seek), details: &Details) -> Result<Option<Signed>, FormatError> {
    verify_with(from, details, &mut |from, details, hash, stated| Ok(image_digest(from, details, hash)? == stated))
}

/// As [`verify`], without reading the program: for one whose bytes are known to be as they were signed.
///
/// # Errors
/// Those of [`verify`].
pub fn signed_by(from: &mut (impl Read + Seek), details: &Details) -> Result<Option<Signed>, FormatError> {
    verify_with(from, details, &mut |_, _, _, _| Ok(true))
}

/// As [`verify`], for a program whose bytes were hashed as they were written: they are not read again when exactly those are covered
/// that were hashed, and otherwise the signature does not hold.
///
/// # Errors
/// Those of [`verify`].
pub fn verify_known(
    from: &mut (impl Read + Seek),
    details: &Details,
    known: &Known<'_>,
) -> Result<Option<Signed>, FormatError> {
    verify_with(from, details, &mut |_, details, hash, stated| {
        Ok(known.spans == spans(details) && (hash, stated) == known.digest)
    })
}

/// Whether a program has a digest.
type HasDigest<'a, R> = &'a mut dyn FnMut(&mut R, &Details, Hash, &[u8]) -> Result<bool, FormatError>;

fn verify_with<R: Read + Seek>(
    from: &mut R,
    details: &Details,
    has_digest: HasDigest<'_, R>,
) -> Result<Option<Signed>, FormatError> {
    let Some((offset, len)) = details.signature else { return Ok(None) };
    let end = from.seek(SeekFrom::End(0)).map_err(FormatError::Io)?;
    let mut fields = OffsetReader { from, little: true };
    let own = u64::from(fields.u32(offset, "the certificate table")?);
    let [revision, kind] = [4, 6].map(|by| fields.u16(offset + by, "the certificate table"));
    if len > MAX_TABLE_LEN || own < 8 || own > len || revision? != 0x0200 || kind? != 2 {
        return Err(broken("the certificate table"));
    }
    // Zeros fill the table up to a multiple of eight.
    let bytes = fields.vec(offset + 8, usize::try_from(own - 8).unwrap_or(0), "the certificate table")?;
    let rest = fields.vec(offset + own, usize::try_from(len - own).unwrap_or(0), "the certificate table")?;
    let message = Message::read(&bytes)?;
    let from = fields.from;
    let mut signer = one(from, details, &message, has_digest)?;
    let mut others = Vec::new();
    for nested in message.nested()? {
        let other = one(from, details, &nested, has_digest)?;
        if let Some(why) = &other.wrong {
            signer.wrong = signer.wrong.or(Some(format!("a second signature in it does not hold: {why}")));
        }
        others.push(other);
    }
    match end.checked_sub(offset + len) {
        Some(0) => {}
        // Whatever lies behind the table is covered by nothing.
        Some(behind) => {
            signer.wrong = Some(format!("there is data after it in the file ({})", Size(behind)));
        }
        None => signer.wrong = Some("the file ends within it".to_owned()),
    }
    let used = message_len(&bytes).unwrap_or(bytes.len());
    let spare = [bytes.get(used..).unwrap_or_default(), &rest].concat();
    let is_data = |byte: &u8| *byte != 0;
    if let (Some(first), Some(last)) = (spare.iter().position(is_data), spare.iter().rposition(is_data)) {
        let len = (last - first + 1) as u64;
        signer.unverified.push(format!("data of another kind in the table of signatures ({})", Size(len)));
    }
    Ok(Some(Signed { signer, others }))
}

/// Bytes that the first value of a table takes; none where its length is not stated.
fn message_len(bytes: &[u8]) -> Option<usize> {
    SliceReader::new(bytes).ok()?.tlv_bytes().ok().map(<[u8]>::len)
}

/// Verifies one message about a program.
fn one<R: Read + Seek>(
    from: &mut R,
    details: &Details,
    message: &Message,
    has_digest: HasDigest<'_, R>,
) -> Result<Signer, FormatError> {
    let (kind, content) = message.content();
    let content = content.filter(|any| kind == SPC_INDIRECT_DATA && any.tag() == Tag::Sequence);
    // The content without its own tag and length is what the message's digest is of.
    let content = content.map(Any::value).ok_or_else(|| broken("the signed message"))?;
    let (hash, digest) = stated(content).map_err(|_| broken("the signed message"))?;
    let hash = hash.ok_or_else(|| broken("the hash function of the signature"))?;
    let mut signer = message.verify(content);
    if message.hash() != Some(hash) {
        signer.wrong = signer.wrong.or(Some("its hash functions differ".to_owned()));
    } else if !message.is_of_first_version() {
        signer.wrong = signer.wrong.or(Some("it is of another version than Windows knows".to_owned()));
    } else if signer.wrong.is_none() && !has_digest(from, details, hash, &digest)? {
        signer.wrong = Some("the program was changed after it was signed".to_owned());
    }
    Ok(signer)
}

/// What the message says of the program: a description, then the hash function and the digest.
fn stated(content: &[u8]) -> Result<(Option<Hash>, Vec<u8>), x509_cert::der::Error> {
    let mut reader = SliceReader::new(content)?;
    reader.tlv_bytes()?;
    reader.sequence(|reader| {
        let algorithm = x509_cert::spki::AlgorithmIdentifierOwned::decode(reader)?;
        let digest = OctetStringRef::decode(reader)?.as_bytes().to_vec();
        Ok((hash_of(algorithm.oid), digest))
    })
}

/// Returns what is signed of a program, as first byte and the one behind the last: all but its checksum, the entry of its certificate
/// table, and that table.
pub fn spans(details: &Details) -> [(u64, u64); 3] {
    let (checksum, entry) = details.unsigned_at;
    let table = details.signature.map_or(0, |(offset, _)| offset);
    let mut spans = [(0, checksum), (checksum + 4, entry), (entry + 8, table)];
    spans.iter_mut().for_each(|span| span.1 = span.1.max(span.0));
    spans
}

#[expect(clippy::indexing_slicing, reason = "as much is read as the buffer holds")]
/// Returns the digest over everything that is signed ([`spans`]).
///
/// # Errors
/// [`FormatError`].
pub fn image_digest(from: &mut (impl Read + Seek), details: &Details, hash: Hash) -> Result<Vec<u8>, FormatError> {
    let mut hasher = hash.start();
    let mut buffer = vec![0; READ_LEN];
    for (start, end) in spans(details) {
        from.seek(SeekFrom::Start(start)).map_err(FormatError::Io)?;
        let mut left = end - start;
        while left > 0 {
            let len = usize::try_from(left).unwrap_or(READ_LEN).min(READ_LEN);
            let read = from.read(&mut buffer[..len]).map_err(FormatError::Io)?;
            if read == 0 {
                return Err(FormatError::Truncated { what: "the program", offset: end - left });
            }
            hasher.update(&buffer[..read]);
            left -= read as u64;
        }
    }
    Ok(hasher.finish())
}

#[cfg(test)]
mod tests;
