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
    /// Where each name ends in the text, which stays under 4 GiB.
    ends: Vec<u32>,
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
        span(&self.text, &self.ends, id)
    }

    /// The number of the folded form, equal for all spellings that Windows takes as the same.
    pub fn folded(&self, id: NameId) -> NameId {
        self.folded[id as usize]
    }

    /// All names, one behind the other.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The number of the name that holds this whole piece of [`text`](Self::text).
    pub fn at(&self, start: usize, end: usize) -> Option<NameId> {
        let id = self.ends.partition_point(|ends| *ends as usize <= start);
        (end <= *self.ends.get(id)? as usize).then_some(id as NameId)
    }

    fn plain(&mut self, name: &str) -> NameId {
        let hash = self.hasher.hash_one(name);
        let (text, ends) = (&self.text, &self.ends);
        if let Some(id) = self.index.find(hash, |id| span(text, ends, *id) == name) {
            return *id;
        }
        let id = self.ends.len() as NameId;
        self.text.push_str(name);
        self.ends.push(self.text.len() as u32);
        self.folded.push(NameId::MAX);
        let (text, ends, hasher) = (&self.text, &self.ends, &self.hasher);
        self.index.insert_unique(hash, id, |id| hasher.hash_one(span(text, ends, *id)));
        id
    }
}

fn span<'t>(text: &'t str, ends: &[u32], id: NameId) -> &'t str {
    let start = if id == 0 { 0 } else { ends[id as usize - 1] as usize };
    &text[start..ends[id as usize] as usize]
}
