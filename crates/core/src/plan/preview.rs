//! What each step of a plan would meet on the machine as it is now.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Plan, Step, StepKind, state};
use crate::model::path::leaf;
use crate::model::text::fold;
use crate::survey::Survey;

/// What a step would meet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "meets")]
pub enum Meets {
    /// Its place as the plan saw it.
    AsPlanned,
    /// Nothing that is left to take.
    Gone,
    /// Another state than the plan saw: it would be left alone.
    Changed,
    /// A file that another program holds, and that no step before it ends: it would be put off to the next start.
    InUse {
        /// The file.
        file: String,
        /// Who holds it.
        by: String,
    },
    /// A step that must be done first and is not to be done.
    Waits {
        /// That step.
        needs: String,
    },
}

/// A step, and what it would meet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Previewed {
    /// The step.
    pub step: Step,
    /// What it would meet.
    #[serde(flatten)]
    pub meets: Meets,
}

/// What each chosen step would meet.
pub fn preview(plan: &Plan, survey: &Survey) -> Vec<Previewed> {
    plan.chosen().map(|step| Previewed { step: step.clone(), meets: meets(plan, step, survey) }).collect()
}

fn meets(plan: &Plan, step: &Step, survey: &Survey) -> Meets {
    match state(survey, &step.place, &step.parts) {
        None if step.kind == StepKind::ReplaceFile && step.expect.is_empty() => return Meets::AsPlanned,
        None => return Meets::Gone,
        Some(found) if found != step.expect => return Meets::Changed,
        Some(_) => {}
    }
    let is_there = |needed: &&Step| state(survey, &needed.place, &needed.parts).is_some();
    let is_done_before = |id: &String| plan.chosen().any(|other| other.id == *id);
    let needed = step.requires.iter().filter(|id| !is_done_before(id));
    let mut needed = needed.filter_map(|id| plan.steps.iter().find(|other| other.id == *id));
    if let Some(needs) = needed.find(is_there) {
        return Meets::Waits { needs: needs.id.clone() };
    }
    held(plan, step, survey).unwrap_or(Meets::AsPlanned)
}

/// A file of the step that stays open until its turn.
fn held(plan: &Plan, step: &Step, survey: &Survey) -> Option<Meets> {
    if !matches!(step.kind, StepKind::TakeFile | StepKind::TakeFolder | StepKind::ReplaceFile) {
        return None;
    }
    let before = plan.chosen().take_while(|other| other.id != step.id);
    let ended: Vec<String> =
        before.filter(|other| other.kind == StepKind::EndProcess).map(|other| fold(&other.place.path)).collect();
    let running = survey.running.processes.iter().filter(|process| !ended.contains(&fold(&process.image)));
    for process in running {
        let mut files = process.holds.iter().chain([&process.image]);
        if let Some(file) = files.find(|file| step.takes_file(file)) {
            let by = if process.title.is_empty() { leaf(&process.image) } else { &process.title };
            return Some(Meets::InUse { file: file.clone(), by: by.to_owned() });
        }
    }
    None
}
