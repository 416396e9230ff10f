//! Registry values that are otherwise for a while, and given back exactly.

use stubble_core::model::path::parent;
use stubble_core::model::{FileTime, RegValue};

use super::Edit;
use crate::{Above, MachineError};

impl Edit<'_> {
    /// The topmost part of a key's path that is not there, if one is missing.
    pub(crate) fn missing_from(&self, key: &str) -> Result<Option<String>, MachineError> {
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
    pub(crate) fn holder(&self, key: &str) -> Result<(Option<String>, FileTime), MachineError> {
        let made = self.missing_from(key)?;
        let time = self.time_of(made.as_deref().and_then(parent).unwrap_or(key))?;
        Ok((made, time))
    }

    /// Sets a value, making its key if need be. Tells the time stamp of the key, or of the key above
    /// the first one that was made.
    pub(crate) fn lend(&mut self, key: &str, value: &RegValue) -> Result<Above, MachineError> {
        let (_, before) = self.holder(key)?;
        let above = self.put(key, value)?;
        Ok(Above { before, after: above.after })
    }

    /// Gives a value back: what it was, or nothing. Keys that were made for it go, if nobody else
    /// uses them. The holder gets its old time, unless somebody else has changed it since.
    pub(crate) fn take_back(
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
}
