//! What there was of each kind at the first look, what was to go and what stays.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::trace::{Decision, GROUPS, Group, Remnant};

/// One kind of place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Figure {
    /// The kind.
    pub group: Group,
    /// Number of places that were to go.
    pub going: usize,
    /// Number that stayed, or waited for a decision.
    pub staying: usize,
    /// Bytes of what was to go.
    pub bytes_going: u64,
    /// Bytes of what stayed.
    pub bytes_staying: u64,
}

/// Figures of all kinds of which there was anything, in the order in which they are shown.
pub fn figures(remnants: &[Remnant]) -> Vec<Figure> {
    let of = |group| {
        let mut figure = Figure { group, going: 0, staying: 0, bytes_going: 0, bytes_staying: 0 };
        for remnant in remnants.iter().filter(|remnant| remnant.group == group) {
            let (count, bytes) = match remnant.decision {
                Decision::Remove => (&mut figure.going, &mut figure.bytes_going),
                Decision::Keep | Decision::Ask => (&mut figure.staying, &mut figure.bytes_staying),
            };
            *count += remnant.parts.len().max(1);
            *bytes += remnant.bytes;
        }
        figure
    };
    GROUPS.into_iter().map(of).filter(|figure| figure.going + figure.staying > 0).collect()
}
