//! Identifiers of products, components and upgrades, in both spellings.
//!
//! The package installer's registrations write an identifier in a rearranged way: the digits of
//! the first three groups reversed, then those of each following byte swapped, without dashes.
//! A search for the usual spelling never finds it.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// An identifier like `{2B7E1516-28AE-4D2A-86AB-F7158809CF4F}`.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(into = "String", try_from = "String")]
#[schemars(with = "String")]
pub struct Guid(Uuid);

impl Guid {
    /// The rearranged spelling: 32 upper-case digits, as registry keys of the installer have it.
    pub fn packed(self) -> String {
        let digits: Vec<u8> = self.0.simple().to_string().to_uppercase().into_bytes();
        rearranged(&digits)
    }

    /// Its 16 bytes as Windows stores them: the first three groups in little-endian order.
    pub fn to_bytes(self) -> [u8; 16] {
        self.0.to_bytes_le()
    }

    /// The identifier of these 128 bits, in the order in which they are written.
    pub fn from_bits(bits: u128) -> Self {
        Self(Uuid::from_u128(bits))
    }

    /// Reads the rearranged spelling.
    pub fn from_packed(packed: &str) -> Option<Self> {
        if packed.len() != 32 || !packed.bytes().all(|digit| digit.is_ascii_hexdigit()) {
            return None;
        }
        Uuid::parse_str(&rearranged(packed.as_bytes())).ok().map(Self)
    }
}

/// The rearrangement, which is its own inverse.
fn rearranged(digits: &[u8]) -> String {
    let mut out = Vec::with_capacity(32);
    for (start, end) in [(0, 8), (8, 12), (12, 16)] {
        out.extend(digits[start..end].iter().rev());
    }
    for pair in digits[16..].chunks_exact(2) {
        out.extend(pair.iter().rev());
    }
    String::from_utf8(out).expect("digits are ASCII")
}

impl FromStr for Guid {
    type Err = uuid::Error;

    /// Accepts the spelling with or without braces, in either case.
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Uuid::try_parse(text.trim()).map(Self)
    }
}

impl fmt::Display for Guid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{{{}}}", self.0.hyphenated().to_string().to_uppercase())
    }
}

impl fmt::Debug for Guid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl From<Guid> for String {
    fn from(guid: Guid) -> Self {
        guid.to_string()
    }
}

impl TryFrom<String> for Guid {
    type Error = uuid::Error;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn the_documented_rearrangement() {
        let guid: Guid = "{01234567-89AB-CDEF-0123-456789ABCDEF}".parse().unwrap();
        assert_eq!(guid.packed(), "76543210BA98FEDC1032547698BADCFE");
    }

    proptest! {
        #[test]
        fn packing_and_unpacking_agree(bits in any::<u128>()) {
            let guid = Guid(Uuid::from_u128(bits));
            prop_assert_eq!(Guid::from_packed(&guid.packed()), Some(guid));
            prop_assert_eq!(Guid::from_packed(&guid.packed().to_lowercase()), Some(guid));
            prop_assert_eq!(guid.to_string().parse::<Guid>().unwrap(), guid);
        }

        #[test]
        fn other_text_is_no_identifier(text in "[0-9A-Fa-f{}-]{0,40}|\\PC{32}") {
            if let Some(guid) = Guid::from_packed(&text) {
                prop_assert_eq!(guid.packed(), text.to_uppercase());
            }
        }
    }
}
