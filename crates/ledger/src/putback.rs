//! Undoing: all deeds or some, the last first.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use stubble_core::model::Place;
use stubble_machine::{Alter, MachineError};

use crate::carry_out::{done, put_back_all};
use crate::finish::{finish_open, settle_put_off};
use crate::journal::{Deed, DeedState, Entry};
use crate::{Case, LedgerError, together};

/// A deed that was to be undone.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Returned {
    /// Its number.
    pub deed: u32,
    /// The step's name in the plan.
    pub step: String,
    /// The place.
    pub place: Place,
    /// What people call it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// Why it could not be put back; `None` if it is back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refused: Option<String>,
}

/// Puts back what the named steps have taken, or everything when none is named.
///
/// Where something stands in a place by now, it is left, the deed stays done, and the result says
/// so. Fails with [`LedgerError::NoDeed`] when a name is unknown, before anything is changed.
pub fn putback(
    case: &mut Case,
    machine: &dyn Alter,
    steps: &[String],
    tell: &mut dyn FnMut(&Returned),
) -> Result<Vec<Returned>, LedgerError> {
    let known = |name: &str| case.journal.deeds().iter().any(|deed| deed.step == name);
    if let Some(unknown) = steps.iter().find(|name| !known(name)) {
        return Err(LedgerError::NoDeed(unknown.clone()));
    }
    let _held = case.hold(machine)?;
    case.is_not_older(machine)?;
    finish_open(case, machine)?;
    settle_put_off(case, machine, false)?;
    let deeds = case.journal.deeds();
    let mut returned = Vec::new();
    let mut back = |deed: &Deed, refused: Option<String>| {
        let (step, place, title) = (deed.step.clone(), deed.place.clone(), deed.title.clone());
        let one = Returned { deed: deed.number, step, place, title, refused };
        tell(&one);
        returned.push(one);
    };
    let mut rest = deeds.iter().rev().filter(|deed| steps.is_empty() || steps.contains(&deed.step)).peekable();
    while let Some(deed) = rest.next() {
        let refused = match deed.state {
            DeedState::Done => {
                let mut following = vec![deed];
                while let Some(next) = rest.next_if(|next| next.state == DeedState::Done) {
                    following.push(next);
                }
                let numbers = following.iter().map(|deed| deed.number);
                undo(case, machine, numbers, false, &mut |number, refused| {
                    let deed = following.iter().find(|deed| deed.number == number);
                    deed.into_iter().for_each(|deed| back(deed, refused.clone()));
                })?;
                continue;
            }
            DeedState::PutOff => put_back_one(case, machine, deed.number, false)?,
            // It could not be finished, and what is gone of it can come back all the same.
            DeedState::Open => put_back_one(case, machine, deed.number, true)?,
            DeedState::Discarded if !steps.is_empty() => {
                Some("what the vault held of it was deleted with `stubble discard`".to_owned())
            }
            DeedState::Discarded | DeedState::Undoing | DeedState::Over => continue,
        };
        back(deed, refused);
    }
    // Everything is back, whether or not the copies can go; the next `putback` or `discard` tries it again.
    let _ = case.drop_copies(machine);
    Ok(returned)
}

/// Puts deeds back in their order, those of the registry together, and tells of each why it could not be. `again` says
/// that their intents are written down, and that an interruption may have come in between.
pub(crate) fn undo(
    case: &mut Case,
    machine: &dyn Alter,
    deeds: impl IntoIterator<Item = u32>,
    again: bool,
    tell: &mut dyn FnMut(u32, Option<String>),
) -> Result<(), LedgerError> {
    for run in together::runs(case, deeds) {
        if run.len() == 1 {
            tell(run[0].0, put_back_one(case, machine, run[0].0, again)?);
            continue;
        }
        if !again {
            let intents = run.iter().map(|(deed, _)| Entry::UndoIntent { deed: *deed });
            case.journal.append_together(intents.collect())?;
        }
        let are_back = together::put_back(case, machine, &run, again)?;
        for (deed, _) in run {
            tell(deed, if are_back { None } else { put_back_one(case, machine, deed, true)? });
        }
    }
    Ok(())
}

/// Puts one deed back, or finishes that after an interruption (`again`). Tells why not, where it
/// stays taken and the vault keeps it.
pub(crate) fn put_back_one(
    case: &mut Case,
    machine: &dyn Alter,
    deed: u32,
    again: bool,
) -> Result<Option<String>, LedgerError> {
    if !again {
        case.journal.append(Entry::UndoIntent { deed })?;
    }
    let back = case.record(deed).and_then(|pieces| put_back_all(case, machine, deed, &pieces, again));
    match back {
        Ok(()) => {
            case.journal.append(Entry::Undone { deed })?;
            Ok(None)
        }
        Err(
            error @ (LedgerError::Damaged { .. }
            | LedgerError::Machine(
                MachineError::Occupied(_)
                | MachineError::Absent(_)
                | MachineError::Refused { .. }
                | MachineError::InUse { .. }
                | MachineError::Denied(_)
                | MachineError::Hive { .. }
                | MachineError::OtherFileSystem(_)
                | MachineError::DriveNotHere(_)
                | MachineError::Io { .. },
            )),
        ) => {
            done(case, deed, Vec::new())?;
            Ok(Some(error.to_string()))
        }
        Err(other) => Err(other),
    }
}
