//! `putback`: undoes what was taken.

use stubble_ledger::{Case, Deed, DeedState, Returned, putback};

use super::{consent, show};
use crate::args::Putback;
use crate::documents::{Documented, PutBack};
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &Putback, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    if args.list {
        // The list is in the case; the machine may be out of reach.
        show(&PutBack { deeds: held(&Case::open(&settings.case)?) }, settings, ui, terminal::held);
        return Ok(Exit::Done);
    }
    let mut work = Work::begin(settings)?;
    let held = held(&work.case);
    let wanted = held.iter().filter(|deed| args.steps.is_empty() || args.steps.contains(&deed.step)).count();
    if held.is_empty() && args.steps.is_empty() {
        show(&PutBack { deeds: held }, settings, ui, |_, _| "Nothing is held; nothing to put back.\n".to_owned());
        return Ok(Exit::Done);
    }
    if let Some((payload, _)) = work.case.journal.installed_since().filter(|_| args.steps.is_empty()) {
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

/// What can be put back.
fn held(case: &Case) -> Vec<Returned> {
    let can_come_back = |deed: &Deed| !matches!(deed.state, DeedState::Over | DeedState::Discarded);
    let held = case.journal.deeds().into_iter().filter(can_come_back);
    let returned = |deed: Deed| {
        let (step, place, title) = (deed.step, deed.place, deed.title);
        Returned { deed: deed.number, step, place, title, refused: None }
    };
    held.map(returned).collect()
}
