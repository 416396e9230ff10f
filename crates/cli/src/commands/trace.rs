//! `trace`: what belongs to the subject.

use stubble_core::survey::compare::count;
use stubble_core::trace::Decision;

use super::show;
use crate::args::Trace;
use crate::documents::{Documented, Traced};
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &Trace, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let work = Work::begin(settings)?;
    work.note_new_install(ui);
    let traced = Traced {
        computer: work.survey.facts.computer.clone(),
        subject: work.case.about.subject.name.clone(),
        looked_at: count(&work.survey),
        trace: work.trace(),
    };
    if !work.case.folder().join("trace.json").exists() {
        work.case.write("trace.json", traced.to_json().as_bytes())?;
    }
    show(&traced, settings, ui, |traced, width| terminal::traced(traced, args.all, width));
    let found = traced.trace.remnants.iter().any(|remnant| remnant.decision != Decision::Keep);
    Ok(if found { Exit::No } else { Exit::Done })
}
