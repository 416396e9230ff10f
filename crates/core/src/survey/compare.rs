//! What differs between two surveys of the same machine.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::Place;
use crate::model::text::compare_folded;

use super::registry::{KeyId, Registry};
use super::tree::{NodeId, Tree};
use super::{Entry, EntryKind, Survey};

/// How a place differs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Difference {
    /// It is new.
    Appeared,
    /// It is gone.
    Vanished,
    /// Its content or a property of it is another.
    Changed,
    /// A folder or key of which only the time stamp moved, as it does when an entry in it comes
    /// or goes.
    Touched,
}

/// One difference.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Change {
    /// The place.
    pub place: Place,
    /// How it differs.
    pub how: Difference,
}

/// All differences of `after` against `before`, each place for itself, files first.
pub fn compare(before: &Survey, after: &Survey) -> Vec<Change> {
    let mut changes = Vec::new();
    let roots = (before.files.root(), after.files.root());
    merge(&before.files, &after.files, roots, &mut |pair| file_change(before, after, pair, &mut changes));
    let (old, new) = (before.registry.keys(), after.registry.keys());
    merge(old, new, (old.root(), new.root()), &mut |pair| {
        key_change(&before.registry, &after.registry, pair, &mut changes);
    });
    changes
}

/// Number of places that [`compare`] would look at: files, folders, keys and values.
pub fn count(survey: &Survey) -> usize {
    survey.files.len() + survey.registry.keys().len() + survey.registry.value_count()
}

type Pair = (Option<NodeId>, Option<NodeId>);

/// Walks two trees side by side and reports each node of either once.
fn merge<T>(old: &Tree<T>, new: &Tree<T>, at: (NodeId, NodeId), report: &mut dyn FnMut(Pair)) {
    let mut left = old.children(at.0).peekable();
    let mut right = new.children(at.1).peekable();
    loop {
        let order = match (left.peek(), right.peek()) {
            (None, None) => return,
            (Some(_), None) => std::cmp::Ordering::Less,
            (None, Some(_)) => std::cmp::Ordering::Greater,
            (Some(a), Some(b)) => compare_folded(old.name(*a), new.name(*b)),
        };
        let a = if order.is_le() { left.next() } else { None };
        let b = if order.is_ge() { right.next() } else { None };
        match (a, b) {
            (Some(a), Some(b)) => {
                report((Some(a), Some(b)));
                merge(old, new, (a, b), report);
            }
            (Some(a), None) => old.below(a).into_iter().for_each(|node| report((Some(node), None))),
            (None, Some(b)) => new.below(b).into_iter().for_each(|node| report((None, Some(node)))),
            (None, None) => return,
        }
    }
}

fn file_change(before: &Survey, after: &Survey, pair: Pair, changes: &mut Vec<Change>) {
    let place = |files: &Tree<Entry>, at: NodeId| match files.data(at).kind {
        EntryKind::Folder => Place::folder(files.path(at)),
        _ => Place::file(files.path(at)),
    };
    let (how, place) = match pair {
        (Some(a), Some(b)) => {
            let (old, new) = (before.files.data(a), after.files.data(b));
            if old == new && before.files.name(a) == after.files.name(b) {
                return;
            }
            let only_time = old.kind == EntryKind::Folder
                && new.kind == EntryKind::Folder
                && before.files.name(a) == after.files.name(b);
            (if only_time { Difference::Touched } else { Difference::Changed }, place(&after.files, b))
        }
        (Some(a), None) => (Difference::Vanished, place(&before.files, a)),
        (None, Some(b)) => (Difference::Appeared, place(&after.files, b)),
        (None, None) => return,
    };
    changes.push(Change { place, how });
}

fn key_change(before: &Registry, after: &Registry, pair: Pair, changes: &mut Vec<Change>) {
    let mut push = |place, how| changes.push(Change { place, how });
    let all = |registry: &Registry, key: KeyId, how, push: &mut dyn FnMut(Place, Difference)| {
        let path = registry.path(key);
        for value in registry.values(key) {
            push(Place::value(&path, value.name), how);
        }
        push(Place::key(path), how);
    };
    let (a, b) = match pair {
        (Some(a), Some(b)) => (a, b),
        (Some(a), None) => return all(before, a, Difference::Vanished, &mut push),
        (None, Some(b)) => return all(after, b, Difference::Appeared, &mut push),
        (None, None) => return,
    };
    let (old, new) = (before.keys().data(a), after.keys().data(b));
    if old.seal != new.seal || before.name(a) != after.name(b) {
        push(Place::key(after.path(b)), Difference::Changed);
    } else if old.last_written != new.last_written {
        push(Place::key(after.path(b)), Difference::Touched);
    }
    if before.values(a).eq(after.values(b)) {
        return;
    }
    let path = after.path(b);
    for value in before.values(a) {
        match after.value(b, value.name) {
            None => push(Place::value(&path, value.name), Difference::Vanished),
            Some(other) if other != value => push(Place::value(&path, value.name), Difference::Changed),
            Some(_) => {}
        }
    }
    for value in after.values(b) {
        if before.value(a, value.name).is_none() {
            push(Place::value(&path, value.name), Difference::Appeared);
        }
    }
}
