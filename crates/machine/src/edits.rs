//! Edits of a registry: what a hive's file and a running system's registry can do alike, and what
//! follows from that.

use stubble_core::model::at_start::{self, Move};
use stubble_core::model::path::parent;
use stubble_core::model::text::fold;
use stubble_core::model::{FileTime, KeyTree, RegValue};

use crate::{Above, MachineError};

/// Edits that belong together. Nothing is certain before [`commit`](Self::commit); a running system
/// may have it before.
pub(crate) trait Edits {
    /// Whether a key is there.
    fn has_key(&self, key: &str) -> Result<bool, MachineError>;

    /// A key with everything below it.
    fn read(&self, key: &str) -> Result<KeyTree, MachineError>;

    /// A value and its position.
    fn read_value(&self, key: &str, name: &str) -> Result<(RegValue, usize), MachineError>;

    /// The access list of a key with owner and group, as a self-relative descriptor.
    fn security_of(&self, key: &str) -> Result<Vec<u8>, MachineError>;

    /// Gives a key an access list; its time stays.
    fn set_security(&mut self, key: &str, descriptor: &[u8]) -> Result<(), MachineError>;

    /// The time of a key.
    fn time_of(&self, key: &str) -> Result<FileTime, MachineError>;

    /// Sets a value, new or not, making its key if need be; tells the time stamp of the key.
    fn put(&mut self, key: &str, value: &RegValue) -> Result<Above, MachineError>;

    /// Deletes a key with everything below it; tells the time stamp of the key above.
    fn delete(&mut self, key: &str) -> Result<Above, MachineError>;

    /// Deletes a value; tells the time stamp of its key.
    fn delete_value(&mut self, key: &str, name: &str) -> Result<Above, MachineError>;

    /// Makes a key again exactly as it was.
    fn restore(&mut self, key: &str, tree: &KeyTree, above: Above) -> Result<(), MachineError>;

    /// Sets a value again exactly as it was.
    fn restore_value(&mut self, key: &str, value: &RegValue, position: usize, above: Above)
    -> Result<(), MachineError>;

    /// Gives a key the time before the change that was undone, unless somebody else has changed it
    /// since: in this edit it has our time.
    fn settle_time(&mut self, key: &str, above: Above) -> Result<(), MachineError>;

    /// Makes it certain.
    fn commit(self) -> Result<(), MachineError>
    where
        Self: Sized;

    /// Whether a key holds nothing but keys that hold nothing.
    fn is_bare(&self, key: &str) -> Result<bool, MachineError> {
        fn is_bare(tree: &KeyTree) -> bool {
            tree.values.is_empty() && tree.keys.iter().all(is_bare)
        }
        self.read(key).map(|tree| is_bare(&tree))
    }

    /// Makes a key again, where no such key may be there.
    fn restore_absent(&mut self, key: &str, tree: &KeyTree, above: Above) -> Result<(), MachineError> {
        match self.has_key(key)? {
            true => Err(MachineError::Occupied(key.to_owned())),
            false => self.restore(key, tree, above),
        }
    }

    /// Sets a value again, where no such value may be there.
    fn restore_absent_value(
        &mut self,
        key: &str,
        value: &RegValue,
        position: usize,
        above: Above,
    ) -> Result<(), MachineError> {
        match self.read_value(key, &value.name) {
            Err(MachineError::Absent(_)) => self.restore_value(key, value, position, above),
            Ok(_) => Err(MachineError::Occupied(format!("{key} : {}", value.name))),
            Err(other) => Err(other),
        }
    }

    /// The topmost part of a key's path that is not there, if one is missing.
    fn missing_from(&self, key: &str) -> Result<Option<String>, MachineError> {
        let mut missing = None;
        let mut at = key;
        while !self.has_key(at)? {
            missing = Some(at.to_owned());
            match parent(at).filter(|above| above.contains('\\')) {
                Some(above) => at = above,
                None => break,
            }
        }
        Ok(missing)
    }

    /// The same, with the time stamp of the key that is there: the key itself, or the one above.
    fn holder(&self, key: &str) -> Result<(Option<String>, FileTime), MachineError> {
        let made = self.missing_from(key)?;
        let time = self.time_of(made.as_deref().and_then(parent).unwrap_or(key))?;
        Ok((made, time))
    }

    /// Sets a value, making its key if need be. Tells the time stamp of the key, or of the key above
    /// the first one that was made.
    fn lend(&mut self, key: &str, value: &RegValue) -> Result<Above, MachineError> {
        let (_, before) = self.holder(key)?;
        let above = self.put(key, value)?;
        Ok(Above { before, after: above.after })
    }

    /// Gives a value back: what it was, or nothing. Keys that were made for it go, if nobody else
    /// uses them. The holder gets its old time, unless somebody else has changed it since.
    fn take_back(
        &mut self,
        key: &str,
        name: &str,
        was: Option<&RegValue>,
        made: Option<&str>,
        above: Above,
    ) -> Result<(), MachineError> {
        let holder = made.and_then(parent).unwrap_or(key);
        let found = self.time_of(holder)?;
        match was {
            Some(value) => self.put(key, value).map(drop)?,
            None => self.delete_value(key, name).map(drop)?,
        }
        if let Some(made) = made {
            if !self.is_bare(made)? {
                return Ok(());
            }
            self.delete(made)?;
        }
        let ours = found == above.after || above.after == FileTime(0);
        self.settle_time(holder, Above { before: if ours { above.before } else { found }, ..above })
    }

    /// The moves that are asked of the next start, in this key. Fails where they cannot be read: what
    /// others have asked for would be lost when the list is written again.
    fn requested_moves(&self, manager: &str) -> Result<Vec<Move>, MachineError> {
        match self.read_value(manager, at_start::VALUE) {
            Ok((value, _)) => at_start::parse(&value.data).ok_or_else(|| MachineError::Refused {
                path: format!("{manager} : {}", at_start::VALUE),
                why: "it cannot be read, and so it is not rewritten".to_owned(),
            }),
            Err(MachineError::Absent(_)) => Ok(Vec::new()),
            Err(other) => Err(other),
        }
    }

    /// Asks for a move at the next start. Fails where something else is asked for it already: another program, or
    /// another case, relies on that.
    fn request_move(&mut self, manager: &str, from: &str, to: &str) -> Result<Above, MachineError> {
        let mut moves = self.requested_moves(manager)?;
        if moves.iter().any(|one| fold(one.source()) == fold(from) && fold(one.target()) != fold(to)) {
            let why = "the next start of Windows is asked to move or delete it already".to_owned();
            return Err(MachineError::Refused { path: from.to_owned(), why });
        }
        moves.retain(|one| fold(one.source()) != fold(from));
        moves.push(Move::new(from, to));
        self.put(manager, &at_start::value(&moves))
    }

    /// Takes a request back; tells whether there was one. One of somebody else for the same file stays.
    fn cancel_request(&mut self, manager: &str, from: &str, to: &str, above: Above) -> Result<bool, MachineError> {
        let moves = match self.requested_moves(manager) {
            // Nothing was asked for in what cannot be read.
            Err(MachineError::Refused { .. }) => Vec::new(),
            other => other?,
        };
        let is_ours = |one: &&Move| fold(one.source()) == fold(from) && fold(one.target()) == fold(to);
        let left: Vec<Move> = moves.iter().filter(|one| !is_ours(one)).cloned().collect();
        if left.len() == moves.len() {
            return Ok(false);
        }
        let found = self.time_of(manager)?;
        let value = (!left.is_empty()).then(|| at_start::value(&left));
        self.write_moves(manager, value.as_ref())?;
        // Somebody else's time stays; one that an interruption kept us from learning is ours.
        if found == above.after || above.after == FileTime(0) {
            self.settle_time(manager, above)?;
        }
        Ok(true)
    }

    /// Writes the list of moves anew; without one, the value goes.
    fn write_moves(&mut self, manager: &str, value: Option<&RegValue>) -> Result<(), MachineError> {
        match value {
            Some(value) => self.put(manager, value).map(drop),
            None => self.delete_value(manager, at_start::VALUE).map(drop),
        }
    }
}
