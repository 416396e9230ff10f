//! From a trace to steps.

use super::order::ordered;
use super::{FORMAT, Plan, Step, StepKind, state};
use crate::model::path::is_inside_or_same;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::{Process, Survey};
use crate::trace::{Decision, Group, Remnant, Standing, Trace};

/// A program of somebody else that holds files of the subject open.
#[derive(Clone, Debug)]
pub struct Holder<'s> {
    /// The process.
    pub process: &'s Process,
    /// The subject's files that it holds.
    pub files: Vec<String>,
}

/// Processes that are not the subject's and hold a file that is to be taken.
pub fn foreign_holders<'s>(survey: &'s Survey, trace: &Trace) -> Vec<Holder<'s>> {
    let own = |process: &Process| {
        let image = fold(&process.image);
        trace.remnants.iter().any(|one| one.place.kind == PlaceKind::Process && fold(&one.place.path) == image)
    };
    let taken = |file: &String| {
        trace.remnants.iter().any(|one| {
            one.decision != Decision::Keep && one.place.kind.is_on_disk() && is_inside_or_same(file, &one.place.path)
        })
    };
    survey
        .running
        .processes
        .iter()
        .filter(|process| !own(process))
        .map(|process| Holder { process, files: process.holds.iter().filter(|file| taken(file)).cloned().collect() })
        .filter(|holder| !holder.files.is_empty())
        .collect()
}

/// The plan for a trace: every remnant is a step, also those that stay, so that a person sees
/// them and can decide otherwise.
pub fn build(survey: &Survey, trace: &Trace, subject: &str) -> Plan {
    let mut steps: Vec<Step> = trace.remnants.iter().filter_map(|remnant| step(survey, remnant)).collect();
    for holder in foreign_holders(survey, trace) {
        let place = Place::new(PlaceKind::Process, &holder.process.image);
        let name = if holder.process.title.is_empty() { &holder.process.image } else { &holder.process.title };
        let files = holder.files.join(", ");
        steps.push(Step {
            id: String::new(),
            decision: Decision::Ask,
            kind: StepKind::EndProcess,
            rung: 1,
            expect: state(survey, &place, &[]).unwrap_or_default(),
            place,
            title: holder.process.title.clone(),
            parts: Vec::new(),
            standing: Standing::Certain,
            why: format!("{name} is another program and holds {files} open; `putback` starts it again"),
            after: Vec::new(),
        });
    }
    let mut steps = ordered(steps);
    name_and_link(&mut steps, survey);
    Plan { format: FORMAT.to_owned(), machine: survey.facts.computer.clone(), subject: subject.to_owned(), steps }
}

fn step(survey: &Survey, remnant: &Remnant) -> Option<Step> {
    let (kind, rung) = match (remnant.place.kind, remnant.group) {
        (PlaceKind::Process, _) => (StepKind::EndProcess, 1),
        (PlaceKind::Product | PlaceKind::UpgradeCode, _) => (StepKind::Unregister, 2),
        (PlaceKind::Service, _) => (StepKind::RemoveService, 3),
        (PlaceKind::Driver, _) => (StepKind::RemoveDriver, 3),
        (PlaceKind::Task, _) => (StepKind::TakeTask, 3),
        (PlaceKind::StorePackage, _) => (StepKind::TakeStorePackage, 4),
        (PlaceKind::Startup | PlaceKind::FirewallRule, _) => (StepKind::TakeValue, 3),
        (PlaceKind::ListEntry, group) => (StepKind::TakeEntry, data_rung(group)),
        (PlaceKind::SharedCount, group) => (StepKind::LowerCount, data_rung(group)),
        (PlaceKind::Shortcut, _) => (StepKind::TakeFile, 4),
        (PlaceKind::Key, group) => (StepKind::TakeKey, data_rung(group)),
        (PlaceKind::Value, group) => (StepKind::TakeValue, data_rung(group)),
        (PlaceKind::Folder, group) => (StepKind::TakeFolder, data_rung(group)),
        (PlaceKind::File, group) => (StepKind::TakeFile, data_rung(group)),
    };
    Some(Step {
        id: String::new(),
        decision: remnant.decision,
        kind,
        rung,
        expect: state(survey, &remnant.place, &remnant.parts)?,
        place: remnant.place.clone(),
        title: remnant.title.clone(),
        parts: remnant.parts.clone(),
        standing: remnant.standing,
        why: remnant.reason.clone(),
        after: Vec::new(),
    })
}

fn data_rung(group: Group) -> u8 {
    match group {
        Group::Running => 1,
        Group::Registration => 2,
        Group::Services => 3,
        Group::Startup | Group::Program | Group::Shell => 4,
        Group::MachineData => 5,
        Group::UserData | Group::History => 6,
    }
}

/// Gives every step its name, and what it must come after: what runs from a folder ends first.
fn name_and_link(steps: &mut [Step], survey: &Survey) {
    for (number, step) in steps.iter_mut().enumerate() {
        step.id = format!("s{:02}", number + 1);
    }
    let before: Vec<(String, Vec<String>)> = steps
        .iter()
        .filter(|step| step.decision != Decision::Keep)
        .filter_map(|step| match step.kind {
            StepKind::EndProcess => Some((step.id.clone(), held_by(survey, &step.place.path))),
            StepKind::RemoveService => {
                let key = survey.registry.key(&format!("{}\\{}", survey.facts.services_key(), step.place.path))?;
                let command = survey.registry.text(key, "ImagePath")?;
                let exists = |path: &str| survey.has_file(path);
                let program = crate::model::path::program_of(&command, &survey.environment(None), &exists)?;
                Some((step.id.clone(), vec![program]))
            }
            _ => None,
        })
        .collect();
    for step in steps.iter_mut().filter(|step| matches!(step.kind, StepKind::TakeFolder | StepKind::TakeFile)) {
        let inside = |files: &[String]| files.iter().any(|file| is_inside_or_same(file, &step.place.path));
        step.after = before.iter().filter(|(_, files)| inside(files)).map(|(id, _)| id.clone()).collect();
    }
}

fn held_by(survey: &Survey, image: &str) -> Vec<String> {
    let image_folded = fold(image);
    let same = survey.running.processes.iter().filter(|process| fold(&process.image) == image_folded);
    same.flat_map(|process| process.holds.iter().cloned().chain([process.image.clone()])).collect()
}
