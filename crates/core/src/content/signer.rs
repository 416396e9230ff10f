//! Who has signed a program, as its signature tells: read, not verified.
//!
//! Layouts after Microsoft's published specification of the PE format (attribute certificate table) and
//! RFC 5652 (signed data).

use cms::cert::CertificateChoices;
use cms::content_info::ContentInfo;
use cms::signed_data::{SignedData, SignerIdentifier};
use der::asn1::{PrintableStringRef, TeletexStringRef, Utf8StringRef};
use der::{Decode, Encode, Tag, Tagged};
use x509_cert::Certificate;
use x509_cert::attr::AttributeTypeAndValue;

use super::pe::{HEADERS, Headers, SIGNATURE, u32_at};
use super::program::ReadAt;

/// A signature is small; a larger one is none.
const LARGEST: usize = 256 * 1024;
/// Signed data by the common standard, among the kinds of signature.
const PKCS_SIGNED_DATA: u16 = 2;
/// The organisation's name (2.5.4.10), and the name for everyday use (2.5.4.3).
const ORGANISATION: &str = "2.5.4.10";
const COMMON_NAME: &str = "2.5.4.3";

/// The organisation that has signed a program, or else the signer's name; `None` where it is not signed, or its
/// signature cannot be read. It is not verified: that is the system's to do.
pub fn parse(read: &ReadAt<'_>) -> Option<String> {
    let (at, size) = Headers::read(&read(0, HEADERS)?)?.directory(SIGNATURE)?;
    let size = size as usize;
    if !(8..=LARGEST).contains(&size) {
        return None;
    }
    let table = read(u64::from(at), size)?;
    let length = u32_at(&table, 0)? as usize;
    let kind = u16::from_le_bytes(table.get(6..8)?.try_into().ok()?);
    if kind != PKCS_SIGNED_DATA {
        return None;
    }
    signed_by(table.get(8..length.min(table.len()))?)
}

/// The signer's organisation in signed data. What stands behind it is padding.
fn signed_by(signature: &[u8]) -> Option<String> {
    let whole = der_length(signature)?;
    let info = ContentInfo::from_der(signature.get(..whole)?).ok()?;
    let data = SignedData::from_der(&info.content.to_der().ok()?).ok()?;
    let signer = data.signer_infos.0.iter().next()?;
    let SignerIdentifier::IssuerAndSerialNumber(id) = &signer.sid else { return None };
    let certificates = data.certificates.as_ref()?.0.iter().filter_map(|one| match one {
        CertificateChoices::Certificate(certificate) => Some(certificate),
        CertificateChoices::Other(_) => None,
    });
    let mut own = certificates
        .filter(|one| one.tbs_certificate.serial_number == id.serial_number && one.tbs_certificate.issuer == id.issuer);
    let certificate: &Certificate = own.next()?;
    let names = || certificate.tbs_certificate.subject.0.iter().flat_map(|part| part.0.iter());
    [ORGANISATION, COMMON_NAME]
        .iter()
        .find_map(|wanted| names().find(|one| one.oid.to_string() == *wanted).and_then(text))
}

/// How long the first element is, with its head.
fn der_length(bytes: &[u8]) -> Option<usize> {
    match *bytes.get(1)? {
        short @ ..0x80 => Some(2 + usize::from(short)),
        long => {
            let digits = usize::from(long & 0x7F);
            let number = bytes.get(2..2 + digits).filter(|_| (1..=4).contains(&digits))?;
            let length = number.iter().fold(0_usize, |sum, byte| sum << 8 | usize::from(*byte));
            length.checked_add(2 + digits)
        }
    }
}

fn text(name: &AttributeTypeAndValue) -> Option<String> {
    match name.value.tag() {
        Tag::Utf8String => name.value.decode_as::<Utf8StringRef<'_>>().ok().map(|text| text.as_str().to_owned()),
        Tag::PrintableString => {
            name.value.decode_as::<PrintableStringRef<'_>>().ok().map(|text| text.as_str().to_owned())
        }
        Tag::TeletexString => name.value.decode_as::<TeletexStringRef<'_>>().ok().map(|text| text.as_str().to_owned()),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::content::{Version, program};
    use proptest::prelude::*;

    /// Made with OpenSSL, by a certificate of its own: O = Fennelgate Instruments.
    const SIGNATURE: &[u8] = include_bytes!("../../tests/data/signature.der");

    fn signed() -> Vec<u8> {
        let mut bytes = program::file(&Version { company: "Fennelgate".into(), ..Version::default() });
        bytes.resize(bytes.len().next_multiple_of(8), 0);
        let at = bytes.len() as u32;
        let size = (SIGNATURE.len() as u32 + 8).next_multiple_of(8);
        bytes.extend(size.to_le_bytes());
        bytes.extend([0, 2, 2, 0]);
        bytes.extend(SIGNATURE);
        bytes.resize((at + size) as usize, 0);
        let directory = 0x98 + 112 + 32;
        bytes[directory..directory + 4].copy_from_slice(&at.to_le_bytes());
        bytes[directory + 4..directory + 8].copy_from_slice(&size.to_le_bytes());
        bytes
    }

    fn read(bytes: &[u8]) -> Option<String> {
        parse(&|offset, len| {
            let start = (offset as usize).min(bytes.len());
            Some(bytes[start..bytes.len().min(start + len)].to_vec())
        })
    }

    #[test]
    fn a_program_tells_who_signed_it() {
        assert_eq!(read(&signed()).as_deref(), Some("Fennelgate Instruments"));
        assert_eq!(read(&program::file(&Version::default())), None);
    }

    proptest! {
        #[test]
        fn damage_is_no_panic(at in 0usize..3000, byte: u8, cut in 0usize..3000) {
            let mut bytes = signed();
            if let Some(place) = bytes.get_mut(at) {
                *place = byte;
            }
            bytes.truncate(bytes.len().saturating_sub(cut));
            read(&bytes);
        }
    }
}
