//! Interned names: each spelling is held once.

use std::hash::BuildHasher;

use hashbrown::HashTable;

use crate::model::text::fold;

/// Number of a name in [`Names`].
pub type NameId = u32;

/// A set of names, each with the number of its folded form.
#[derive(Debug, Default)]
pub struct Names {
    text: String,
    ends: Vec<usize>,
    folded: Vec<NameId>,
    index: HashTable<NameId>,
    hasher: foldhash::fast::FixedState,
}

impl Names {
    /// The number of a name, new or known.
    pub fn intern(&mut self, name: &str) -> NameId {
        let id = self.plain(name);
        if self.folded[id as usize] == NameId::MAX {
            let folded = fold(name);
            let folded_id = if folded == name { id } else { self.plain(&folded) };
            self.folded[folded_id as usize] = folded_id;
            self.folded[id as usize] = folded_id;
        }
        id
    }

    /// The name with that number.
    pub fn get(&self, id: NameId) -> &str {
        let start = if id == 0 { 0 } else { self.ends[id as usize - 1] };
        &self.text[start..self.ends[id as usize]]
    }

    /// The number of the folded form, equal for all spellings that Windows takes as the same.
    pub fn folded(&self, id: NameId) -> NameId {
        self.folded[id as usize]
    }

    fn plain(&mut self, name: &str) -> NameId {
        let hash = self.hasher.hash_one(name);
        let (text, ends) = (&self.text, &self.ends);
        let get = |id: NameId| {
            let start = if id == 0 { 0 } else { ends[id as usize - 1] };
            &text[start..ends[id as usize]]
        };
        if let Some(id) = self.index.find(hash, |id| get(*id) == name) {
            return *id;
        }
        let id = self.ends.len() as NameId;
        self.text.push_str(name);
        self.ends.push(self.text.len());
        self.folded.push(NameId::MAX);
        let (text, ends, hasher) = (&self.text, &self.ends, &self.hasher);
        self.index.insert_unique(hash, id, |id| {
            let start = if *id == 0 { 0 } else { ends[*id as usize - 1] };
            hasher.hash_one(&text[start..ends[*id as usize]])
        });
        id
    }
}
