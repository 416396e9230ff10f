//! Names of keys and values as they lie in the file: Latin-1 or UTF-16.

/// A borrowed name. Kept as stored, since it need not be valid Unicode.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NameRef<'a> {
    /// One byte a character, code points 0 to 255.
    Latin1(&'a [u8]),
    /// UTF-16 in little-endian bytes, possibly with unpaired surrogates.
    Utf16(&'a [u8]),
}

impl<'a> NameRef<'a> {
    /// The name's UTF-16 units.
    pub fn units(self) -> impl Iterator<Item = u16> + 'a {
        let (bytes, step) = match self {
            NameRef::Latin1(bytes) => (bytes, 1),
            NameRef::Utf16(bytes) => (bytes, 2),
        };
        bytes.chunks_exact(step).map(move |unit| match unit {
            [low] => u16::from(*low),
            [low, high] => u16::from_le_bytes([*low, *high]),
            _ => unreachable!("chunks have one or two bytes"),
        })
    }

    pub(crate) fn is(self, other: &[u16]) -> bool {
        self.units().map(upper).eq(other.iter().map(|unit| upper(*unit)))
    }
}

/// How a name is stored, and whether as Latin-1: the shorter way wherever it is possible.
pub(crate) fn stored(name: &[u16]) -> (Vec<u8>, bool) {
    if name.iter().all(|unit| *unit <= 0xFF) {
        (name.iter().map(|unit| *unit as u8).collect(), true)
    } else {
        (name.iter().flat_map(|unit| unit.to_le_bytes()).collect(), false)
    }
}

/// Simple upper-casing of one UTF-16 unit: one unit to one unit, else unchanged.
pub(crate) fn upper(unit: u16) -> u16 {
    if unit < 0x80 {
        return u16::from((unit as u8).to_ascii_uppercase());
    }
    let Some(letter) = char::from_u32(u32::from(unit)) else { return unit };
    let mut capitals = letter.to_uppercase();
    match (capitals.next(), capitals.next()) {
        (Some(capital), None) => u16::try_from(u32::from(capital)).unwrap_or(unit),
        _ => unit,
    }
}

/// The hash that an `lh` list keeps beside each key.
pub(crate) fn hash(name: impl Iterator<Item = u16>) -> u32 {
    name.fold(0u32, |sum, unit| sum.wrapping_mul(37).wrapping_add(u32::from(upper(unit))))
}
