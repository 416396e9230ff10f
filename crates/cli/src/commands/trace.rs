//! `trace`: what belongs to the subject.

use stubble_core::survey::compare::count;
use stubble_core::trace::Decision;

use super::show;
use crate::args::Trace;
use crate::documents::{Documented, Traced};
use crate::errors::CliError;
use crate::narrow::Wanted;
use crate::views::{terminal, tsv};
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &Trace, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let work = Work::begin(settings)?;
    work.note_new_install(ui);
    let wanted = Wanted::of(&args.narrow, &work)?;
    let mut traced = Traced {
        computer: work.survey.facts.computer.clone(),
        subject: work.case.about.subject.title(),
        looked_at: count(&work.survey),
        trace: work.trace(),
    };
    if !work.case.folder().join("trace.json").exists() {
        work.case.write("trace.json", traced.to_json().as_bytes())?;
    }
    traced.trace.remnants.retain(|remnant| wanted.has(remnant));
    match args.tsv {
        true => ui.print(&tsv::remnants(&traced.trace.remnants)),
        false => show(&traced, settings, ui, |traced, width| terminal::traced(traced, args.all, width)),
    }
    let found = traced.trace.remnants.iter().any(|remnant| remnant.decision != Decision::Keep);
    Ok(if found { Exit::No } else { Exit::Done })
}
