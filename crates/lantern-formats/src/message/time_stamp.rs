//! Time stamps: what an authority states of a signature. Source: RFC 3161, sections 2.3 and 2.4.2
//! (<https://www.rfc-editor.org/rfc/rfc3161>).

use x509_cert::der::asn1::{GeneralizedTime, ObjectIdentifier, OctetStringRef};
use x509_cert::der::{Any, Decode, Reader, SliceReader, Tag, Tagged};
use x509_cert::spki::AlgorithmIdentifierOwned;

use super::{Message, Signer, ber, hash_of};
use crate::hash::Hash;
use crate::offset_reader::FormatError;

const TST_INFO: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.16.1.4");

/// What an authority states, and that its signature holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TimeStamp {
    /// When, in seconds since 1970.
    pub time: u64,
    /// The nonce of the request, its highest byte first.
    pub nonce: Option<Vec<u8>>,
    /// Who states it.
    pub by: Signer,
    hash: Option<Hash>,
    imprint: Vec<u8>,
}

impl TimeStamp {
    /// Reads a token, and verifies that it is as its authority signed it. Of what it is says [`TimeStamp::covers`].
    ///
    /// # Errors
    /// Why it is no valid time stamp.
    pub fn read(token: &[u8]) -> Result<Self, String> {
        let message = Message::read(token).map_err(|_: FormatError| "it cannot be read")?;
        let (kind, content) = message.content();
        let content = content.filter(|any| kind == TST_INFO && any.tag() == Tag::OctetString);
        let content = content.ok_or("it is another kind of message")?.value();
        let by = message.verify(content);
        if let Some(why) = &by.wrong {
            return Err(format!("it was changed, or is not of its authority: {why}"));
        }
        if !by.is_for_time_stamps {
            return Err("its certificate is not one for time stamps".to_owned());
        }
        let info = Info::read(content).map_err(|_| "it cannot be read")?;
        if info.time < by.valid.0 || info.time > by.valid.1 {
            return Err("its certificate was not valid at that time".to_owned());
        }
        Ok(Self { time: info.time, nonce: info.nonce, by, hash: info.hash, imprint: info.imprint })
    }

    /// Whether it is of these bytes: of a signature.
    pub fn covers(&self, bytes: &[u8]) -> bool {
        self.hash.is_some_and(|hash| hash.digest(bytes) == self.imprint)
    }
}

struct Info {
    hash: Option<Hash>,
    imprint: Vec<u8>,
    time: u64,
    nonce: Option<Vec<u8>>,
}

impl Info {
    fn read(content: &[u8]) -> Result<Self, x509_cert::der::Error> {
        SliceReader::new(content)?.sequence(|reader| {
            // The version and the policy.
            reader.tlv_bytes()?;
            reader.tlv_bytes()?;
            let (hash, imprint) = reader.sequence(|reader| {
                let algorithm = AlgorithmIdentifierOwned::decode(reader)?;
                Ok((hash_of(algorithm.oid), OctetStringRef::decode(reader)?.as_bytes().to_vec()))
            })?;
            reader.tlv_bytes()?;
            // Fractions of a second are allowed here (RFC 3161, section 2.4.2), not in certificates (RFC 5280, section
            // 4.1.2.5.2): cut off.
            let time = reader.tlv_bytes()?;
            let digits =
                time.get(2..).unwrap_or_default().split(|b| matches!(b, b'.' | b'Z')).next().unwrap_or_default();
            let mut whole = Vec::new();
            ber::write(0x18, &[digits, b"Z"].concat(), &mut whole);
            let time = GeneralizedTime::from_der(&whole)?.to_unix_duration().as_secs();
            let mut nonce = None;
            while !reader.is_finished() {
                let value = Any::decode(reader)?;
                if value.tag() == Tag::Integer {
                    nonce = Some(value.value().strip_prefix(&[0]).unwrap_or(value.value()).to_vec());
                }
            }
            Ok(Self { hash, imprint, time, nonce })
        })
    }
}
