//! What is still there of the product, and why, held against what was wanted.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Brought, Finding};
use crate::model::Place;
use crate::plan::{Decided, Plan, Step};
use crate::survey::Survey;
use crate::trace::{Decision, Remnant, Trace};

/// Why a place is still there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Because {
    /// It stays on purpose.
    Kept,
    /// A person was to decide about it, and has not.
    Undecided,
    /// The machine removes it at its next start.
    PutOff,
    /// The machine refused.
    Refused,
    /// Nothing says why it is there: it is left of the old.
    LeftOver,
}

/// A place that is still there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Remains {
    /// The place.
    pub place: Place,
    /// Why it is there.
    pub because: Because,
    /// The same in words.
    pub reason: String,
}

impl Remains {
    /// The same as something that is not as it should be.
    pub fn finding(&self) -> Finding {
        let advice = "`stubble plan --anew` and `stubble clear` take it away.";
        Finding::new(self.place.clone(), "nothing", self.reason.clone(), advice)
    }
}

/// What was wanted, and what became of it.
#[derive(Clone, Copy, Debug)]
pub struct Wanted<'w> {
    /// The plan of the case.
    pub plan: Option<&'w Plan>,
    /// What a person has decided in this case, the first first.
    pub decided: &'w [Decided],
    /// Places that go at the machine's next start.
    pub put_off: &'w [Place],
    /// Steps that were tried and not done, by their names, with why.
    pub refused: &'w [(String, String)],
    /// Steps that were not needed, since setup worked before.
    pub spared: &'w [String],
    /// What setup has brought.
    pub brought: &'w Brought,
}

/// Everything that a fresh trace still finds, but for what setup has brought since.
pub fn remains(survey: &Survey, trace: &Trace, wanted: &Wanted<'_>) -> Vec<Remains> {
    let mut found = Vec::new();
    for remnant in &trace.remnants {
        if remnant.decision == Decision::Keep {
            found.push(Remains {
                place: remnant.place.clone(),
                because: Because::Kept,
                reason: wanted.by_person(&remnant.place).unwrap_or_else(|| remnant.reason.clone()),
            });
            continue;
        }
        for place in wanted.brought.old_in(survey, remnant) {
            let (because, reason) = wanted.why(&place, remnant);
            found.push(Remains { place, because, reason });
        }
    }
    found
}

/// Files that a repair was to put right and did not. Whether those that it did are right is not asked here, nor about
/// anything else of the product.
pub fn not_repaired(repair: &Plan, wanted: &Wanted<'_>) -> Vec<Remains> {
    let mut found = Vec::new();
    for step in &repair.steps {
        let refused = wanted.refused.iter().find(|(id, _)| *id == step.id);
        let (because, reason) = match (step.decision, refused) {
            (Decision::Keep, _) => (Because::Kept, wanted.by_person(&step.place).unwrap_or_else(|| step.why.clone())),
            (Decision::Ask, _) => (Because::Undecided, step.why.clone()),
            (Decision::Remove, _) if wanted.put_off.contains(&step.place) => {
                (Because::PutOff, AT_NEXT_START.to_owned())
            }
            (Decision::Remove, Some((_, why))) => (Because::Refused, why.clone()),
            (Decision::Remove, None) => continue,
        };
        found.push(Remains { place: step.place.clone(), because, reason });
    }
    found
}

/// Why what is put off is still there, and what ends that.
const AT_NEXT_START: &str = "it is done at the next start: `stubble restart`, then `stubble resume`";

impl Wanted<'_> {
    fn why(&self, place: &Place, remnant: &Remnant) -> (Because, String) {
        if self.put_off.iter().any(|put_off| place.is_within(put_off) || remnant.place == *put_off) {
            return (Because::PutOff, AT_NEXT_START.to_owned());
        }
        if let Some(reason) = self.by_person(place) {
            return (Because::Kept, reason);
        }
        match self.step(place) {
            Some(step) if step.decision == Decision::Keep => (Because::Kept, step.why.clone()),
            Some(step) if step.decision == Decision::Ask => (Because::Undecided, step.why.clone()),
            Some(step) if self.spared.contains(&step.id) => (Because::Kept, "setup works without taking it".to_owned()),
            Some(step) => match self.refused.iter().find(|(id, _)| *id == step.id) {
                Some((_, why)) => (Because::Refused, why.clone()),
                None => (Because::LeftOver, remnant.reason.clone()),
            },
            None if remnant.decision == Decision::Ask => (Because::Undecided, remnant.reason.clone()),
            None => (Because::LeftOver, remnant.reason.clone()),
        }
    }

    /// The step of the plan that is about a place: one that says more than that it is taken, where there are several.
    fn step(&self, place: &Place) -> Option<&Step> {
        let steps = self.plan.iter().flat_map(|plan| &plan.steps);
        let about = steps.filter(|step| is_of(place, &step.place) || step.parts.iter().any(|part| is_of(place, part)));
        about.max_by_key(|step| (step.place.path.len(), step.decision))
    }

    /// What a person has decided about a place, if that is that it stays.
    fn by_person(&self, place: &Place) -> Option<String> {
        let last = self.decided.iter().rev().find(|one| is_of(place, &one.place))?;
        match (last.decision, last.because.as_str()) {
            (Decision::Keep, "") => Some("you decided so".to_owned()),
            (Decision::Keep, because) => Some(format!("you decided so: {because}")),
            _ => None,
        }
    }
}

/// Whether a place is another one or in it; entries of one list are told apart.
fn is_of(place: &Place, other: &Place) -> bool {
    if other.entry.is_some() { place.folded() == other.folded() } else { place.is_within(other) }
}
