//! A time-stamp authority of one's own, for rehearsals: what it answers to a request. Nobody else's computer trusts it. Source: RFC
//! 3161, sections 2.4.1 and 2.4.2 (<https://www.rfc-editor.org/rfc/rfc3161>); RFC 5816, section 2.2.1, for the certificate's hash.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use lantern_formats::hash::Hash;
use lantern_keys::der::{self, Reader};
use lantern_keys::key::Signer;

use crate::SignError;
use crate::message::{attached, attribute, oid};

/// 1.2.840.113549.1.9.16.1.4 and 1.2.840.113549.1.9.16.2.47.
const TST_INFO: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 9, 16, 1, 4];
const SIGNING_CERTIFICATE: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 9, 16, 2, 47];
/// The policy that is named: a number of the arc for examples (RFC 7299 has none; 2.999 is ITU-T X.660's).
const POLICY: &[u8] = &[0x88, 0x37, 1];
/// The request could not be read (a bit string with its bit 5).
const BAD_FORMAT: &[u8] = &[0x03, 2, 2, 0x04];

/// The media type of answers (section 3.4).
pub const REPLY_TYPE: &str = "application/timestamp-reply";

/// Answers a request at a time; `serial` is another number for each answer.
///
/// # Errors
/// Those of signing.
pub fn answer(request: &[u8], signer: &dyn Signer, at: Timestamp, serial: u64) -> Result<Vec<u8>, SignError> {
    let Some((imprint, nonce)) = read(request) else {
        return Ok(der::sequence(&[&der::sequence(&[&der::integer(2), BAD_FORMAT])]).to_vec());
    };
    let time = at.to_zoned(TimeZone::UTC).strftime("%Y%m%d%H%M%SZ").to_string();
    let info = der::sequence(&[
        &der::integer(1),
        &oid(POLICY),
        imprint,
        &der::integer(serial),
        &der::value(0x18, &[time.as_bytes()]),
        nonce.unwrap_or_default(),
    ]);
    let own = signer.chain().first().map(|own| Hash::Sha256.digest(own)).unwrap_or_default();
    let own = der::sequence(&[&der::sequence(&[&der::sequence(&[&der::value(der::OCTET_STRING, &[&own])])])]);
    let content = der::value(der::OCTET_STRING, &[&info]);
    let attributes = vec![attribute(SIGNING_CERTIFICATE, &own)];
    let token = attached(signer, (TST_INFO, 3), &content, attributes, &mut |_| Ok(Vec::new()))?;
    Ok(der::sequence(&[&der::sequence(&[&der::integer(0)]), &token]).to_vec())
}

/// What is to be stamped, and the number of the request; each as it stands there.
fn read(request: &[u8]) -> Option<(&[u8], Option<&[u8]>)> {
    const WHAT: &str = "the request";
    let mut request = Reader::new(request).inside(der::SEQUENCE, WHAT).ok()?;
    request.number(WHAT).ok().filter(|version| *version == 1)?;
    let imprint = request.whole(WHAT).ok()?;
    let mut nonce = None;
    while !request.is_empty() {
        let tag = request.tag();
        let whole = request.whole(WHAT).ok()?;
        nonce = nonce.or((tag == Some(der::INTEGER)).then_some(whole));
    }
    Some((imprint, nonce))
}
