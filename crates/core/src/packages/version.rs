//! Versions of products: up to four numbers between dots.

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

/// A version as text, compared number by number.
#[derive(Clone, Debug, Default)]
pub struct Version(String);

impl Version {
    /// The number that the installer keeps: 8 bits, 8 bits, 16 bits.
    pub fn packed(&self) -> u32 {
        let part = |at| self.parts().nth(at).unwrap_or(0);
        (part(0) & 0xFF) << 24 | (part(1) & 0xFF) << 16 | (part(2) & 0xFFFF)
    }

    /// Reads the number that the installer keeps.
    pub fn from_packed(packed: u32) -> Self {
        Self(format!("{}.{}.{}", packed >> 24, packed >> 16 & 0xFF, packed & 0xFFFF))
    }

    /// The first three numbers; the installer ignores a fourth.
    pub fn compared(&self) -> [u32; 3] {
        let mut parts = self.parts();
        std::array::from_fn(|_| parts.next().unwrap_or(0))
    }

    fn parts(&self) -> impl Iterator<Item = u32> + '_ {
        self.0.split('.').map(|part| part.trim().parse().unwrap_or(0))
    }
}

impl FromStr for Version {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        let numeric = !text.is_empty() && text.split('.').all(|part| part.trim().parse::<u32>().is_ok());
        if numeric { Ok(Self(text.to_owned())) } else { Err(()) }
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl PartialEq for Version {
    fn eq(&self, other: &Self) -> bool {
        self.compared() == other.compared()
    }
}

impl Eq for Version {}

impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Version {
    fn cmp(&self, other: &Self) -> Ordering {
        self.compared().cmp(&other.compared())
    }
}
