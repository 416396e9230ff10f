//! `putback`: undoes what was taken.

use stubble_ledger::{Deed, DeedState, Returned, putback};

use super::{consent, show};
use crate::args::Putback;
use crate::documents::{Documented, PutBack};
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &Putback, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    let can_come_back = |deed: &Deed| !matches!(deed.state, DeedState::Over | DeedState::Discarded);
    let held = work.case.journal.deeds().into_iter().filter(can_come_back);
    let held: Vec<Returned> = held
        .map(|deed| Returned {
            deed: deed.number,
            step: deed.step,
            place: deed.place,
            title: deed.title,
            refused: None,
        })
        .collect();
    if args.list {
        show(&PutBack { deeds: held }, settings, ui, terminal::held);
        return Ok(Exit::Done);
    }
    let wanted = held.iter().filter(|deed| args.steps.is_empty() || args.steps.contains(&deed.step)).count();
    if held.is_empty() && args.steps.is_empty() {
        show(&PutBack { deeds: held }, settings, ui, |_, _| "Nothing is held; nothing to put back.\n".to_owned());
        return Ok(Exit::Done);
    }
    if let Some(payload) = work.case.journal.installed_since().filter(|_| args.steps.is_empty()) {
        return Err(CliError::InstalledSince { payload: payload.to_owned() });
    }
    consent(args.consent.yes, &format!("Put back what {wanted} steps have taken?"), ui)?;
    let width = ui.width;
    let deeds = putback(&mut work.case, work.machine.alter()?, &args.steps, &mut |one| {
        if !settings.json {
            ui.print(&terminal::returned(one, width));
        }
    })?;
    let done = PutBack { deeds };
    let text = if settings.json { done.to_json() } else { terminal::put_back(&done, width) };
    ui.print(&text);
    let refused = done.deeds.iter().any(|deed| deed.refused.is_some());
    Ok(if refused { Exit::Stopped } else { Exit::Done })
}
