//! What an uninstaller did: the differences of two surveys, each that is held as a piece with its
//! inverse.

use std::collections::BTreeSet;
use std::path::Path;

use serde::{Deserialize, Serialize};
use stubble_core::model::path::{is_inside_or_same, parent};
use stubble_core::model::text::fold;
use stubble_core::model::{FileTime, Place};
use stubble_core::survey::compare::{Change, Difference, compare};
use stubble_core::survey::{NodeId, Registry, Survey, state};
use stubble_machine::Alter;

use super::Piece;
use super::uninstaller::Copied;
use crate::LedgerError;

/// What an uninstaller has done.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Effect {
    /// Its exit code.
    pub code: u32,
    /// Places that are gone.
    pub gone: usize,
    /// What can be put back, in an order whose reverse puts it back.
    pub pieces: Vec<Piece>,
    /// Time stamps above the pieces, after it.
    pub after: Vec<FileTime>,
    /// What is gone or changed, and was not copied.
    pub lost: Vec<Place>,
    /// What is new.
    pub made: Vec<Place>,
}

/// Compares the machine before and after, and makes a piece of each difference that is held.
pub(super) fn find_out(
    before: &Survey,
    after: &Survey,
    copies: &[Copied],
    code: u32,
    machine: &dyn Alter,
    kept: &Path,
) -> Result<Effect, LedgerError> {
    let changes = compare(before, after);
    let mut found = Finding { before, after, copies, effect: Effect { code, ..Effect::default() } };
    found.effect.gone = changes.iter().filter(|change| change.how == Difference::Vanished).count();
    found.what_ran();
    found.registry(&changes, machine, kept)?;
    found.files(&changes);
    let mut effect = found.effect;
    effect.after = effect.pieces.iter().map(Piece::after).collect();
    Ok(effect)
}

struct Finding<'s> {
    before: &'s Survey,
    after: &'s Survey,
    copies: &'s [Copied],
    effect: Effect,
}

impl Finding<'_> {
    /// What ran before and no longer does: it is started last.
    fn what_ran(&mut self) {
        let (before, after) = (&self.before.running, &self.after.running);
        for service in before.services.iter().filter(|one| one.running) {
            if !after.services.iter().any(|one| one.running && fold(&one.name) == fold(&service.name)) {
                self.effect.pieces.push(Piece::Service { name: service.name.clone(), ran: true });
            }
        }
        let images: BTreeSet<&String> = before.processes.iter().map(|process| &process.image).collect();
        for image in images {
            if !after.processes.iter().any(|process| fold(&process.image) == fold(image)) {
                self.effect.pieces.push(Piece::Process { image: image.clone() });
            }
        }
    }

    fn registry(&mut self, changes: &[Change], machine: &dyn Alter, kept: &Path) -> Result<(), LedgerError> {
        let (before, after) = (&self.before.registry, &self.after.registry);
        let mut keys = Vec::new();
        let mut values = Vec::new();
        for change in changes.iter().filter(|change| !change.place.kind.is_on_disk()) {
            let path = &change.place.path;
            match (&change.place.name, change.how) {
                (_, Difference::Touched) => {}
                (None, Difference::Vanished) => {
                    if parent(path).is_some_and(|above| after.key(above).is_some()) {
                        keys.push(path.clone());
                    }
                }
                (None, Difference::Appeared) => self.effect.made.push(change.place.clone()),
                (None, Difference::Changed) => self.effect.lost.push(change.place.clone()),
                (Some(_), Difference::Appeared) if before.key(path).is_none() => {}
                (Some(_), Difference::Vanished) if after.key(path).is_none() => {}
                (Some(name), how) => values.push((path.clone(), how, name.clone())),
            }
        }
        let time = |registry: &Registry, path: &str| {
            registry.key(path).map(|at| registry.keys().data(at).last_written).unwrap_or_default()
        };
        // Undone in reverse: what is new goes first, and what is gone comes back from the first to the last.
        let position = |path: &str, name: &str| {
            before.key(path).and_then(|key| before.values(key).position(|value| value.name == name)).unwrap_or(0)
        };
        let rank = |how: Difference| u8::from(how == Difference::Changed) + 2 * u8::from(how == Difference::Appeared);
        values.sort_by_cached_key(|(path, how, name)| {
            (path.clone(), rank(*how), std::cmp::Reverse(position(path, name)))
        });
        for (path, how, name) in values {
            let (old, new) = (time(before, &path), time(after, &path));
            let read =
                |registry: &Registry| registry.key(&path).and_then(|key| Some(registry.value(key, &name)?.to_owned()));
            let piece = match (how, read(before), read(after)) {
                (Difference::Vanished, Some(value), _) => {
                    let position = position(&path, &name);
                    Piece::Value { key: path, value, position, before: old, after: new }
                }
                (_, was, Some(set)) => Piece::Setting { key: path, set, was, made: None, before: old, after: new },
                _ => continue,
            };
            self.effect.pieces.push(piece);
        }
        for (path, tree) in keys.iter().zip(machine.keys_as_kept(kept, &keys)?) {
            let above = parent(path).unwrap_or_default();
            let (before, after) = (time(before, above), time(after, above));
            self.effect.pieces.push(Piece::Key { path: path.clone(), tree, before, after });
        }
        Ok(())
    }

    fn files(&mut self, changes: &[Change]) {
        for change in changes.iter().filter(|change| change.place.kind.is_on_disk()) {
            let path = &change.place.path;
            match change.how {
                Difference::Touched => {}
                Difference::Appeared => self.effect.made.push(change.place.clone()),
                Difference::Vanished => {
                    let is_top = parent(path).is_some_and(|above| self.after.files.find(above).is_some());
                    if let Some(node) = self.before.files.find(path).filter(|_| is_top) {
                        self.gone(node);
                    }
                }
                Difference::Changed => {
                    let instead = state::of(self.after, &Place::folder(path.as_str()));
                    let node = self.before.files.find(path);
                    match node.and_then(|node| self.copy(node, instead)) {
                        Some(piece) => self.effect.pieces.push(piece),
                        None => self.effect.lost.push(change.place.clone()),
                    }
                }
            }
        }
    }

    /// What is gone comes from its copy: whole, or a folder alone and then what was in it.
    fn gone(&mut self, node: NodeId) {
        if let Some(piece) = self.copy(node, None) {
            return self.effect.pieces.push(piece);
        }
        let files = &self.before.files;
        let path = files.path(node);
        let alone = self.copies.iter().position(|copied| !copied.whole && fold(&copied.path) == fold(&path));
        let Some(copy) = alone else { return self.effect.lost.push(Place::folder(path)) };
        for child in files.children(node).collect::<Vec<_>>() {
            self.gone(child);
        }
        let piece = self.piece(node, copy, Vec::new(), String::new(), None);
        self.effect.pieces.push(piece);
    }

    fn copy(&self, node: NodeId, instead: Option<String>) -> Option<Piece> {
        let path = self.before.files.path(node);
        let holds = |copied: &Copied| copied.whole && is_inside_or_same(&path, &copied.path);
        let copy = self.copies.iter().position(holds)?;
        let rest = path.get(self.copies[copy].path.len()..)?;
        let part = rest.split('\\').filter(|name| !name.is_empty()).map(str::to_owned).collect();
        let taken = state::of(self.before, &Place::folder(path.as_str()))?;
        Some(self.piece(node, copy, part, taken, instead))
    }

    fn piece(&self, node: NodeId, copy: usize, part: Vec<String>, state: String, instead: Option<String>) -> Piece {
        let path = self.before.files.path(node);
        let time = |survey: &Survey| {
            let above = parent(&path).and_then(|above| survey.files.find(above));
            above.map(|at| survey.files.data(at).modified).unwrap_or_default()
        };
        Piece::Copy {
            name: self.before.files.name(node).to_owned(),
            copy,
            part,
            state,
            instead,
            before: time(self.before),
            after: time(self.after),
            path,
        }
    }
}
