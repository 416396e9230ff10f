//! `discard`: empties the vault.

use stubble_ledger::discard;

use super::{consent, show};
use crate::args::Discard;
use crate::documents::Discarded;
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &Discard, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    let machine = work.machine.alter()?;
    let held = work.case.held_entries(machine, &args.steps)?;
    if held.is_empty() && args.steps.is_empty() {
        // What an interruption has left goes all the same.
        discard(&mut work.case, machine, &[])?;
        show(&Discarded { held }, settings, ui, |_, _| "The vault holds no files; nothing to discard.\n".to_owned());
        return Ok(Exit::Done);
    }
    let document = Discarded { held };
    if !settings.json {
        ui.print(&terminal::would_discard(&document, ui.width));
    }
    consent(args.consent.yes, "Delete them for good?", ui)?;
    let document = Discarded { held: discard(&mut work.case, machine, &args.steps)? };
    show(&document, settings, ui, terminal::discarded);
    Ok(Exit::Done)
}
