//! `borrow`: changes something of the machine for a while.

use stubble_core::loans::Loan;
use stubble_ledger::borrow;

use super::consent;
use crate::args::Borrow;
use crate::documents::{Documented, LoanTaken, LoansTaken};
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &Borrow, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    let wanted = chosen(&work, &args.loans)?;
    let titles: Vec<&str> = wanted.iter().map(|loan| loan.title.as_str()).collect();
    consent(args.consent.yes, &format!("For a while: {}. Do it?", titles.join("; ")), ui)?;
    let loans = take(&mut work, &wanted, false, !settings.json, ui)?;
    if settings.json {
        ui.print(&LoansTaken { loans }.to_json());
    }
    Ok(Exit::Done)
}

/// The loans of these names. Fails where one is not offered.
pub fn chosen(work: &Work, names: &[String]) -> Result<Vec<Loan>, CliError> {
    let offered = work.offered();
    let find = |name: &String| {
        let found = offered.iter().find(|loan| loan.name.eq_ignore_ascii_case(name)).cloned();
        found.ok_or_else(|| CliError::NoLoan {
            name: name.clone(),
            offered: offered.iter().map(|loan| format!("{}: {}", loan.name, loan.title)).collect(),
        })
    };
    names.iter().map(find).collect()
}

/// Borrows them, and shows each as it is out, if it is to be shown.
pub fn take(
    work: &mut Work,
    loans: &[Loan],
    for_mend: bool,
    shows: bool,
    ui: &mut Ui,
) -> Result<Vec<LoanTaken>, CliError> {
    let mut taken = Vec::new();
    for loan in loans {
        let is_out = borrow(&mut work.case, work.machine.alter()?, loan, for_mend)?;
        if shows {
            ui.print(&terminal::borrowed(loan, is_out, for_mend, ui.width));
        }
        taken.push(LoanTaken { loan: loan.name.clone(), title: loan.title.clone(), is_out });
    }
    Ok(taken)
}
