//! What to tell the user, and what the maker of the product needs.

use crate::confirm::{Receipt, Verdict};
use crate::logs::Run;
use crate::survey::Facts;
use crate::trace::{Decision, Group, Remnant};

/// What the user is told when the PC is handed back; empty where nothing was done.
pub fn for_the_user(remnants: &[Remnant], receipt: Option<&Receipt>) -> Vec<String> {
    let Some(receipt) = receipt else { return Vec::new() };
    let mut told = Vec::new();
    // Only where nothing of it is left is it known to be gone.
    let went = |group| {
        let is_it = |one: &Remnant| one.group == group && one.decision == Decision::Remove;
        receipt.clean == Verdict::Yes && remnants.iter().any(is_it)
    };
    if receipt.installed == Verdict::Yes && (went(Group::MachineData) || went(Group::UserData)) {
        told.push("The first start can take longer than usual: the program makes its caches again.".to_owned());
    }
    if went(Group::UserData) {
        told.push("You may have to sign in to the program again.".to_owned());
    }
    let kept = receipt.kept.len();
    if kept > 0 {
        let places = if kept == 1 { "1 place".to_owned() } else { format!("{kept} places") };
        told.push(format!("Of your own files and settings {places} were kept on purpose."));
    }
    for (_, title) in &receipt.still_closed {
        told.push(format!("{title} was closed for the work and does not run again by itself: start it."));
    }
    for title in &receipt.still_borrowed {
        told.push(format!("Not everything is as before yet: {title}."));
    }
    told
}

/// What the maker needs, where setup failed last: nothing where it worked. `log` is its log's name in the case.
pub fn for_the_maker(facts: &Facts, payload: Option<&str>, last: Option<(u32, &str, Option<&Run>)>) -> Vec<String> {
    let Some((code, log, run)) = last else { return Vec::new() };
    let mut needed = vec![format!("Setup {} ended with exit code {code}.", payload.unwrap_or("of unknown name"))];
    if let Some(run) = run {
        if let Some(said) = &run.message {
            needed.push(format!("It said \"{}\" (log line {}).", said.text, said.line));
        }
        if let Some(failed) = run.failed.first() {
            needed.push(format!("The action {} failed first (log line {}).", failed.text, failed.line));
        }
        for one in &run.decided {
            needed.push(format!("{} was {} (log line {}).", one.name, one.value, one.line));
        }
    }
    needed.push(format!("The whole log: {log} in the case folder."));
    needed.push(format!(
        "The system: {}, version {} build {}, {}.",
        facts.product, facts.version, facts.build, facts.architecture
    ));
    needed.push("What was found and what was done: report.json; send report-redacted.json instead to leave names out (`stubble report --redact`).".to_owned());
    needed
}
