//! What a person has decided about the steps of a plan, by place, so that a new plan keeps it.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Plan, PlanError, Step, StepKind};
use crate::model::Place;
use crate::trace::Decision;

/// A person's decision about one place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Decided {
    /// What the step does.
    pub kind: StepKind,
    /// What it changes.
    pub place: Place,
    /// What was decided.
    pub decision: Decision,
    /// What the plan had there by itself.
    pub instead_of: Decision,
    /// The person's reason; empty if none was given.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub because: String,
}

type Name = (StepKind, Place);

fn name(step: &Step) -> Name {
    (step.kind, step.place.folded())
}

impl Decided {
    /// A decision about this step, after those that were made before.
    pub fn of(step: &Step, decision: Decision, because: &str, before: &[Self]) -> Self {
        let first = before.iter().find(|one| one.is_about(step));
        Self {
            kind: step.kind,
            place: step.place.clone(),
            decision,
            instead_of: first.map_or(step.decision, |first| first.instead_of),
            because: because.to_owned(),
        }
    }

    fn is_about(&self, step: &Step) -> bool {
        (self.kind, self.place.folded()) == name(step)
    }
}

/// Gives the steps of a new plan the decisions that were made before; of several about one place the last.
///
/// `Keep` always holds. `Remove` holds if the new plan has the same there by itself as the plan had in which it was
/// decided; if it now has a reason to keep the place, the step asks, and tells both.
pub fn carry_over(plan: &mut Plan, decided: &[Decided]) {
    for step in &mut plan.steps {
        let Some(last) = decided.iter().rev().find(|one| one.is_about(step)) else { continue };
        step.decided = Some(last.because.clone());
        let has_new_reason = step.decision == Decision::Keep && last.instead_of != Decision::Keep;
        if last.decision == Decision::Remove && has_new_reason {
            (step.decision, step.decided) = (Decision::Ask, None);
            step.why = format!("you decided to take it, but by now: {}", step.why);
        } else {
            step.decision = last.decision;
        }
    }
}

/// Leaves a step of a new plan to a new decision, since the plan is refused for it with what was decided before. Tells
/// whether there was such a step.
pub fn ask_again(plan: &mut Plan, refusal: &PlanError) -> bool {
    let (id, why) = match refusal {
        PlanError::Protected { step, why, .. } => (step, why.clone()),
        PlanError::Overlap { first, second, place } => (second, format!("{first} takes {place} as well")),
        _ => return false,
    };
    let refused = plan.steps.iter_mut().find(|step| step.id == *id && step.decision == Decision::Remove);
    refused.is_some_and(|step| {
        (step.decision, step.decided) = (Decision::Ask, None);
        step.why = format!("with what was decided it cannot go: {why}");
        true
    })
}

/// Whether a person has edited more of a plan's file than decisions can tell: what they have added, and what they have
/// changed of a step.
pub fn is_rewritten(written: &Plan, edited: &Plan) -> bool {
    let plain = |step: &Step| Step { decision: Decision::Ask, decided: None, ..step.clone() };
    let known: BTreeMap<Name, Step> = written.steps.iter().map(|step| (name(step), plain(step))).collect();
    edited.steps.iter().any(|step| known.get(&name(step)) != Some(&plain(step)))
}

/// What a person decided by editing a plan's file, as far as it was not known `before`. A step that was deleted is one
/// to keep.
pub fn by_hand(written: &Plan, edited: &Plan, before: &[Decided]) -> Vec<Decided> {
    let now: BTreeMap<Name, Decision> = edited.steps.iter().map(|step| (name(step), step.decision)).collect();
    let decided = written.steps.iter().filter_map(|step| {
        let decision = now.get(&name(step)).copied().unwrap_or(Decision::Keep);
        let last = before.iter().rev().find(|one| one.is_about(step)).map(|last| last.decision);
        (decision != step.decision && last != Some(decision)).then(|| Decided::of(step, decision, "", before))
    });
    decided.collect()
}

/// What differs between two plans, by their steps.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Differences<'p> {
    /// Steps of the new plan alone.
    pub new: Vec<&'p Step>,
    /// Steps of the old plan alone.
    pub gone: Vec<&'p Step>,
    /// Steps that are decided in another way, with the old decision.
    pub otherwise: Vec<(Decision, &'p Step)>,
}

impl Differences<'_> {
    /// Whether the plans do the same.
    pub fn is_empty(&self) -> bool {
        self.new.is_empty() && self.gone.is_empty() && self.otherwise.is_empty()
    }
}

/// What differs between an old plan and a new one.
pub fn differences<'p>(old: &'p Plan, new: &'p Plan) -> Differences<'p> {
    let before: BTreeMap<Name, &Step> = old.steps.iter().map(|step| (name(step), step)).collect();
    let mut found = Differences::default();
    for step in &new.steps {
        match before.get(&name(step)) {
            None => found.new.push(step),
            Some(was) if was.decision != step.decision => found.otherwise.push((was.decision, step)),
            Some(_) => {}
        }
    }
    let now: BTreeMap<Name, &Step> = new.steps.iter().map(|step| (name(step), step)).collect();
    found.gone = old.steps.iter().filter(|step| !now.contains_key(&name(step))).collect();
    found
}
