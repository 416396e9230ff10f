//! What the rules have claimed so far.

use std::collections::BTreeMap;

use super::Evidence;
use crate::model::path::is_inside_or_same;
use crate::model::{Place, PlaceKind};

/// A place with the evidence for it.
#[derive(Clone, Debug)]
pub struct Claim {
    /// The place, as the machine spells it.
    pub place: Place,
    /// For a registration, what it consists of.
    pub parts: Vec<Place>,
    /// The evidence.
    pub evidence: Vec<Evidence>,
}

/// All claims, each place once however it is spelled.
#[derive(Debug, Default)]
pub struct Claims(BTreeMap<Place, Claim>);

impl Claims {
    /// Claims a place. The same evidence twice is held once.
    pub fn add(&mut self, place: Place, evidence: Evidence) {
        self.add_with_parts(place, Vec::new(), evidence);
    }

    /// Claims a registration with the places that make it up.
    pub fn add_with_parts(&mut self, place: Place, parts: Vec<Place>, evidence: Evidence) {
        let claim = self.0.entry(place.folded()).or_insert(Claim { place, parts, evidence: Vec::new() });
        if !claim.evidence.contains(&evidence) {
            claim.evidence.push(evidence);
        }
    }

    /// Whether a place is claimed.
    pub fn has(&self, place: &Place) -> bool {
        self.0.contains_key(&place.folded())
    }

    /// All folders claimed.
    pub fn folders(&self) -> impl Iterator<Item = &Place> {
        self.0.values().map(|claim| &claim.place).filter(|place| place.kind == PlaceKind::Folder)
    }

    /// Number of places claimed.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether nothing is claimed.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The claimed folder that this path lies in.
    pub fn folder_over(&self, path: &str) -> Option<&Claim> {
        self.0
            .values()
            .find(|claim| claim.place.kind == PlaceKind::Folder && is_inside_or_same(path, &claim.place.path))
    }

    /// All claims.
    pub fn into_all(self) -> impl Iterator<Item = Claim> {
        self.0.into_values()
    }
}
