//! Asking Windows to move something at its next start, and taking that back.

use std::path::PathBuf;

use stubble_core::model::at_start::{self, Move};
use stubble_core::model::text::fold;
use stubble_core::model::{FileTime, Place, RegValue};

use super::{Disk, Edit, OWN_FOLDER};
use crate::{Above, MachineError};

impl Disk {
    /// The folder at the top of the drive to which things can be moved at a start: here, and as
    /// the machine names it.
    pub(crate) fn own_folder(&self) -> Result<(PathBuf, String), MachineError> {
        Ok((self.root().join(OWN_FOLDER), format!("{}\\{OWN_FOLDER}", self.drive)))
    }

    /// Makes it where it is not there.
    pub(crate) fn make_own_folder(&self) -> Result<(), MachineError> {
        let folder = self.root().join(OWN_FOLDER);
        self.make_own(&folder).map_err(MachineError::io(folder.display().to_string()))
    }

    /// The moves that are asked for. Fails where they cannot be read: what others have asked for
    /// would be lost when the list is written again.
    pub(crate) fn requested_moves(&self, edit: &Edit<'_>) -> Result<Vec<Move>, MachineError> {
        match edit.read_value(&self.session_manager(), at_start::VALUE) {
            Ok((value, _)) => at_start::parse(&value.data).ok_or_else(|| MachineError::Refused {
                path: format!("{} : {}", self.session_manager(), at_start::VALUE),
                why: "it cannot be read, and so it is not rewritten".to_owned(),
            }),
            Err(MachineError::Absent(_)) => Ok(Vec::new()),
            Err(other) => Err(other),
        }
    }

    /// Asks for a move; see [`Alter::move_at_start`](crate::Alter::move_at_start).
    pub(crate) fn ask_for_move(
        &self,
        mut edit: Edit<'_>,
        from: &str,
        to: &str,
    ) -> Result<(Place, Above), MachineError> {
        let mut moves = self.requested_moves(&edit)?;
        moves.retain(|one| fold(one.source()) != fold(from));
        moves.push(Move::new(from, to));
        let above = edit.put(&self.session_manager(), &at_start::value(&moves))?;
        edit.commit()?;
        Ok((Place::value(self.session_manager(), at_start::VALUE), above))
    }

    /// Takes a request back; see [`Alter::cancel_move`](crate::Alter::cancel_move).
    pub(crate) fn cancel_request(&self, mut edit: Edit<'_>, from: &str, above: Above) -> Result<bool, MachineError> {
        let moves = match self.requested_moves(&edit) {
            // Nothing was asked for in what cannot be read.
            Err(MachineError::Refused { .. }) => Vec::new(),
            other => other?,
        };
        let left: Vec<Move> = moves.iter().filter(|one| fold(one.source()) != fold(from)).cloned().collect();
        if left.len() == moves.len() {
            self.tidy_own().map_err(MachineError::io(from))?;
            return Ok(false);
        }
        let key = self.session_manager();
        let found = edit.time_of(&key)?;
        let value = (!left.is_empty()).then(|| at_start::value(&left));
        self.write_moves(&mut edit, value.as_ref())?;
        // Somebody else's time stays; one that an interruption kept us from learning is ours.
        if found == above.after || above.after == FileTime(0) {
            edit.settle_time(&key, above)?;
        }
        edit.commit()?;
        self.tidy_own().map_err(MachineError::io(from))?;
        Ok(true)
    }

    /// Removes empty folders of our own: the ones that were made for a move which did not happen.
    fn tidy_own(&self) -> std::io::Result<()> {
        let own = self.root().join(OWN_FOLDER);
        // The folder itself, a case's, a deed's, a piece's.
        let mut levels = vec![vec![own]];
        for _ in 0..3 {
            let above = levels.last().into_iter().flatten();
            let below = above.filter_map(|folder| std::fs::read_dir(folder).ok()).flatten().filter_map(Result::ok);
            levels.push(
                below.filter(|one| one.file_type().is_ok_and(|kind| kind.is_dir())).map(|one| one.path()).collect(),
            );
        }
        levels.iter().rev().flatten().try_for_each(|folder| self.drop_own(folder))
    }

    /// Writes the list of moves anew; without one, the value goes.
    pub(crate) fn write_moves(&self, edit: &mut Edit<'_>, value: Option<&RegValue>) -> Result<(), MachineError> {
        match value {
            Some(value) => edit.put(&self.session_manager(), value).map(drop),
            None => edit.delete_value(&self.session_manager(), at_start::VALUE).map(drop),
        }
    }

    fn session_manager(&self) -> String {
        format!("HKLM\\SYSTEM\\{}\\{}", self.facts().control_set, at_start::KEY)
    }
}
