//! Exit codes.

use std::process::ExitCode;

/// What the program ends with.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Exit {
    /// Done, nothing outstanding.
    Done = 0,
    /// The answer is no: blocked, remnants found, not clean, verification failed.
    No = 1,
    /// The call or an input file is wrong.
    Usage = 2,
    /// The machine or the case cannot be read, or is locked.
    Unreadable = 3,
    /// Stopped on the way: `resume` or `putback` will finish.
    Stopped = 4,
    /// A restart is needed.
    Restart = 5,
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit as u8)
    }
}
