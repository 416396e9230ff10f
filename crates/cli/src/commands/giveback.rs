//! `giveback`: gives back what is borrowed.

use stubble_ledger::{Borrowed, Case, give_back};

use super::consent;
use crate::args::Giveback;
use crate::documents::{Documented, LoansReturned};
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &Giveback, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    let out: Vec<Borrowed> = work.case.journal.loans().into_iter().filter(Borrowed::is_out).collect();
    let names = |loan: &Borrowed| args.loans.is_empty() || args.loans.contains(&loan.loan);
    if let Some(unknown) = args.loans.iter().find(|name| !out.iter().any(|loan| loan.loan == **name)) {
        return Err(CliError::NotBorrowed(unknown.clone()));
    }
    if out.is_empty() {
        let text = if settings.json {
            LoansReturned { loans: Vec::new() }.to_json()
        } else {
            "Nothing is borrowed.\n".to_owned()
        };
        ui.print(&text);
        return Ok(Exit::Done);
    }
    let titles: Vec<&str> = out.iter().filter(|loan| names(loan)).map(|loan| loan.title.as_str()).collect();
    consent(args.consent.yes, &format!("Give back ({})?", titles.join("; ")), ui)?;
    let loans = give_back(&mut work.case, work.machine.alter()?, &names)?;
    let returned = LoansReturned { loans };
    let text = if settings.json { returned.to_json() } else { terminal::given_back(&returned, ui.width) };
    ui.print(&text);
    Ok(Exit::Done)
}

/// Gives back what the guided work borrowed: at its end, or, when it was interrupted, at the next
/// command that changes the machine.
pub fn after_mend(settings: &Settings, ui: &mut Ui) -> Result<(), CliError> {
    if !Case::loans_out(&settings.case).iter().any(|loan| loan.for_mend) {
        return Ok(());
    }
    let mut work = Work::begin(settings)?;
    let loans = give_back(&mut work.case, work.machine.alter()?, &|loan| loan.for_mend)?;
    let text = terminal::given_back(&LoansReturned { loans }, ui.width);
    if settings.json {
        ui.tell(&text)
    } else {
        ui.print(&text)
    }
    Ok(())
}
