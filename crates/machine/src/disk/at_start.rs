//! Asking Windows to move something at its next start, and taking that back.

use stubble_core::model::{Place, at_start};

use super::{Disk, OWN_FOLDER};
use crate::edits::Edits;
use crate::{Above, MachineError};

impl Disk {
    /// Makes our own folder on the drive on which a path lies, where it is not there.
    pub(crate) fn make_own_folder(&self, of: Option<&str>) -> Result<(), MachineError> {
        let (folder, _) = self.own_folder(of);
        self.make_own(&folder).map_err(MachineError::io(folder.display().to_string()))
    }

    /// Asks for a move; see [`Alter::move_at_start`](crate::Alter::move_at_start).
    pub(crate) fn ask_for_move(
        &self,
        mut edit: impl Edits,
        from: &str,
        to: &str,
    ) -> Result<(Place, Above), MachineError> {
        let above = edit.request_move(&self.session_manager(), from, to)?;
        edit.commit()?;
        Ok((Place::value(self.session_manager(), at_start::VALUE), above))
    }

    /// Takes a request back; see [`Alter::cancel_move`](crate::Alter::cancel_move).
    pub(crate) fn cancel_move_of(
        &self,
        mut edit: impl Edits,
        from: &str,
        to: &str,
        above: Above,
    ) -> Result<bool, MachineError> {
        let was_asked_for = edit.cancel_request(&self.session_manager(), from, to, above)?;
        if was_asked_for {
            edit.commit()?;
        }
        self.tidy_own().map_err(MachineError::io(from))?;
        Ok(was_asked_for)
    }

    /// Removes empty folders of our own: the ones that were made for a move which did not happen.
    pub(crate) fn tidy_own(&self) -> std::io::Result<()> {
        // The folder itself on each drive, a case's, a deed's, a piece's.
        let own = self.volumes().map(|(_, root)| root.join(OWN_FOLDER));
        let mut levels = vec![own.collect::<Vec<_>>()];
        for _ in 0..3 {
            let above = levels.last().into_iter().flatten();
            let below = above.filter_map(|folder| std::fs::read_dir(folder).ok()).flatten().filter_map(Result::ok);
            levels.push(
                below.filter(|one| one.file_type().is_ok_and(|kind| kind.is_dir())).map(|one| one.path()).collect(),
            );
        }
        levels.iter().rev().flatten().try_for_each(|folder| self.drop_own(folder))
    }

    /// The key in which moves are asked for.
    pub(crate) fn session_manager(&self) -> String {
        format!("HKLM\\SYSTEM\\{}\\{}", self.facts().control_set, at_start::KEY)
    }
}
