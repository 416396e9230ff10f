//! `loans`: what is borrowed, and what can be.

use stubble_core::loans::Lent;
use stubble_ledger::Borrowed;

use super::show;
use crate::documents::{LoanOffered, LoanOut, Loans};
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let work = Work::begin(settings)?;
    let out: Vec<LoanOut> = work.case.journal.loans().into_iter().filter(Borrowed::is_out).map(out).collect();
    let cuts_network = work.machine.alter().is_ok_and(|machine| machine.can_cut_network());
    let mut all = work.offered();
    all.retain(|loan| cuts_network || !loan.changes.contains(&Lent::Network));
    let offered = all.into_iter().map(|loan| LoanOffered {
        values: loan.changes.iter().filter(|change| !matches!(change, Lent::Network)).count(),
        loan: loan.name,
        title: loan.title,
        good_for: loan.good_for,
    });
    let loans = Loans { offered: offered.collect(), out };
    show(&loans, settings, ui, terminal::loans);
    Ok(if loans.out.is_empty() { Exit::Done } else { Exit::No })
}

fn out(loan: Borrowed) -> LoanOut {
    LoanOut { loan: loan.loan, title: loan.title, since: loan.since, for_mend: loan.for_mend }
}
