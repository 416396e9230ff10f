//! What the rules have claimed so far.

use std::collections::{BTreeMap, HashMap};

use super::{Evidence, Standing, weigh};
use crate::model::text::fold;
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
pub struct Claims {
    all: BTreeMap<Place, Claim>,
    /// Claimed folders by folded path.
    folders: HashMap<String, Place>,
}

impl Claims {
    /// Claims a place. The same evidence twice is held once.
    pub fn add(&mut self, place: Place, evidence: Evidence) {
        self.add_with_parts(place, Vec::new(), evidence);
    }

    /// Claims a registration with the places that make it up.
    pub fn add_with_parts(&mut self, place: Place, parts: Vec<Place>, evidence: Evidence) {
        let folded = place.folded();
        if place.kind == PlaceKind::Folder && !self.folders.contains_key(&folded.path) {
            self.folders.insert(folded.path.clone(), place.clone());
        }
        let claim = self.all.entry(folded).or_insert(Claim { place, parts, evidence: Vec::new() });
        if !claim.evidence.contains(&evidence) {
            claim.evidence.push(evidence);
        }
    }

    /// Whether a place is claimed.
    pub fn has(&self, place: &Place) -> bool {
        self.all.contains_key(&place.folded())
    }

    /// How sure it is by now that a place is the subject's.
    pub fn standing(&self, place: &Place) -> Option<Standing> {
        weigh::standing(&self.all.get(&place.folded())?.evidence)
    }

    /// All folders claimed.
    pub fn folders(&self) -> impl Iterator<Item = &Place> {
        self.folders.values()
    }

    /// Number of places claimed.
    pub fn len(&self) -> usize {
        self.all.len()
    }

    /// Whether nothing is claimed.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// The innermost claimed folder that this path lies in.
    pub fn folder_over(&self, path: &str) -> Option<&Place> {
        let folded = fold(path);
        let mut at = folded.as_str();
        loop {
            if let Some(place) = self.folders.get(at) {
                return Some(place);
            }
            at = at.rsplit_once('\\')?.0;
        }
    }

    /// The innermost claimed key that this key is or lies in.
    pub fn key_over(&self, key: &str) -> Option<&Place> {
        let mut at = key;
        loop {
            if let Some(claim) = self.all.get(&Place::key(at).folded()) {
                return Some(&claim.place);
            }
            at = at.rsplit_once('\\')?.0;
        }
    }

    /// All places of one kind that are claimed.
    pub fn of_kind(&self, kind: PlaceKind) -> impl Iterator<Item = &Place> {
        self.all.values().map(|claim| &claim.place).filter(move |place| place.kind == kind)
    }

    /// All claims.
    pub fn into_all(self) -> impl Iterator<Item = Claim> {
        self.all.into_values()
    }
}
