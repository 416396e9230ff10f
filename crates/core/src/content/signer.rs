//! Who has signed a program, as its signature tells: read, not verified.
//!
//! Layouts after Microsoft's published specification of the PE format (attribute certificate table) and
//! RFC 5652 (signed data).

use super::pe::{HEADERS, Headers, SIGNATURE, u32_at};
use super::program::ReadAt;

/// Largest signature that is read, in bytes.
const LARGEST: usize = 256 * 1024;
/// `WIN_CERT_TYPE_PKCS_SIGNED_DATA`: the signature is signed data by RFC 5652.
const PKCS_SIGNED_DATA: u16 = 2;
/// organizationName (2.5.4.10) and commonName (2.5.4.3), in the bytes of their object identifiers (X.520).
const ORGANISATION: &[u8] = &[0x55, 4, 10];
const COMMON_NAME: &[u8] = &[0x55, 4, 3];

/// Tags of X.690 that occur on the way to the signer's name.
mod tag {
    pub const INTEGER: u8 = 0x02;
    pub const OBJECT_IDENTIFIER: u8 = 0x06;
    pub const UTF8_STRING: u8 = 0x0C;
    pub const PRINTABLE_STRING: u8 = 0x13;
    pub const TELETEX_STRING: u8 = 0x14;
    pub const BMP_STRING: u8 = 0x1E;
    pub const SEQUENCE: u8 = 0x30;
    pub const SET: u8 = 0x31;
    /// `[0]`, constructed: the content of a content info, the certificates, a certificate's version.
    pub const ZERO: u8 = 0xA0;
}

/// The organisation that has signed a program, or else the signer's name; `None` if it is not signed or the
/// signature cannot be read. The signature is not verified: that is the system's task.
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

/// The first signer's organisation in signed data. What follows the data is padding.
fn signed_by(signature: &[u8]) -> Option<String> {
    let info = Elements(signature).tagged(tag::SEQUENCE)?;
    let mut info = Elements(info.content);
    info.tagged(tag::OBJECT_IDENTIFIER)?;
    let data = Elements(info.tagged(tag::ZERO)?.content).tagged(tag::SEQUENCE)?;
    let parts: Vec<Element<'_>> = Elements(data.content).collect();
    // Version, digest algorithms and content come first; the signers are the last set.
    let certificates = parts.get(3..)?.iter().find(|part| part.tag == tag::ZERO)?;
    let signers = parts.last().filter(|part| part.tag == tag::SET)?;

    let mut signer = Elements(Elements(signers.content).tagged(tag::SEQUENCE)?.content);
    signer.tagged(tag::INTEGER)?;
    let mut id = Elements(signer.tagged(tag::SEQUENCE)?.content);
    let (issuer, serial) = (id.tagged(tag::SEQUENCE)?, id.tagged(tag::INTEGER)?);

    let subject = Elements(certificates.content).filter(|one| one.tag == tag::SEQUENCE).find_map(|certificate| {
        let mut fields = Elements(Elements(certificate.content).tagged(tag::SEQUENCE)?.content).peekable();
        fields.next_if(|first| first.tag == tag::ZERO);
        let own_serial = fields.next()?;
        let [_algorithm, own_issuer, _validity, subject] =
            [fields.next()?, fields.next()?, fields.next()?, fields.next()?];
        (own_serial.content == serial.content && own_issuer.content == issuer.content).then_some(subject)
    })?;
    [ORGANISATION, COMMON_NAME].iter().find_map(|wanted| named(&subject, wanted))
}

/// The attribute of a name (RFC 5280: a sequence of sets of an identifier and a value) with that identifier.
fn named(name: &Element<'_>, wanted: &[u8]) -> Option<String> {
    Elements(name.content).flat_map(|set| Elements(set.content)).find_map(|attribute| {
        let mut parts = Elements(attribute.content);
        let identifier = parts.tagged(tag::OBJECT_IDENTIFIER)?;
        if identifier.content == wanted { text(&parts.next()?) } else { None }
    })
}

fn text(value: &Element<'_>) -> Option<String> {
    match value.tag {
        tag::UTF8_STRING | tag::PRINTABLE_STRING => std::str::from_utf8(value.content).ok().map(str::to_owned),
        // In practice Latin-1.
        tag::TELETEX_STRING => Some(value.content.iter().map(|byte| char::from(*byte)).collect()),
        tag::BMP_STRING => {
            let units = value.content.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]]));
            char::decode_utf16(units).collect::<Result<_, _>>().ok()
        }
        _ => None,
    }
}

/// One element of DER (X.690): its tag, and its content without the head.
struct Element<'a> {
    tag: u8,
    content: &'a [u8],
}

/// The elements that follow one another in some bytes. Ends at the first one that is not whole.
struct Elements<'a>(&'a [u8]);

impl<'a> Elements<'a> {
    /// The next element, if it has that tag.
    fn tagged(&mut self, tag: u8) -> Option<Element<'a>> {
        self.next().filter(|one| one.tag == tag)
    }
}

impl<'a> Iterator for Elements<'a> {
    type Item = Element<'a>;

    fn next(&mut self) -> Option<Element<'a>> {
        let (&[tag, first], mut rest) = self.0.split_first_chunk::<2>()?;
        let mut length = usize::from(first);
        if first >= 0x80 {
            let digits = usize::from(first & 0x7F);
            let (number, after) = rest.split_at_checked(digits).filter(|_| (1..=4).contains(&digits))?;
            length = number.iter().fold(0, |sum, byte| sum << 8 | usize::from(*byte));
            rest = after;
        }
        let (content, rest) = rest.split_at_checked(length)?;
        self.0 = rest;
        Some(Element { tag, content })
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
