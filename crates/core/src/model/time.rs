//! Time as Windows counts it.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Hundreds of nanoseconds since the beginning of 1601, UTC; zero means unknown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
pub struct FileTime(pub u64);

/// Seconds from 1601 to 1970.
const TO_UNIX: i64 = 11_644_473_600;

impl FileTime {
    /// From seconds and nanoseconds since 1970; finer parts than 100 ns are dropped.
    pub fn from_unix(seconds: i64, nanos: u32) -> Self {
        let whole = seconds.saturating_add(TO_UNIX).max(0) as u64;
        Self(whole.saturating_mul(10_000_000).saturating_add(u64::from(nanos / 100)))
    }

    /// Seconds and nanoseconds since 1970.
    pub fn to_unix(self) -> (i64, u32) {
        ((self.0 / 10_000_000) as i64 - TO_UNIX, (self.0 % 10_000_000) as u32 * 100)
    }
}
