//! Which steps of a plan a person means, and what they decide about them.

use std::cell::OnceCell;

use stubble_core::model::path::is_inside_or_same;
use stubble_core::model::text::fold;
use stubble_core::plan::{Decided, Plan, Step, StepKind};
use stubble_core::trace::why::place_of;
use stubble_core::trace::{Decision, Remnant, Trace};

use crate::args::{self, Narrow};
use crate::errors::CliError;
use crate::narrow::Wanted;
use crate::work::Work;

/// Applies the decisions of a command line to a plan, and returns them.
pub fn decide(work: &Work, plan: &mut Plan, args: &args::Plan) -> Result<Vec<Decided>, CliError> {
    let meaning = Meaning { work, trace: OnceCell::new() };
    let because = args.because.as_deref().unwrap_or_default();
    let mut decided = Vec::new();
    for (names, decision) in [(&args.take, Decision::Remove), (&args.keep, Decision::Keep)] {
        for name in names {
            for number in meaning.steps(plan, name, decision)? {
                decided.push(set(work, &mut plan.steps[number], decision, because));
            }
        }
    }
    if let Some(always) = args.decide {
        for step in plan.steps.iter_mut().filter(|step| step.decision == Decision::Ask) {
            decided.push(set(work, step, always.into(), because));
        }
    }
    Ok(decided)
}

/// Decides one step.
pub fn set(work: &Work, step: &mut Step, decision: Decision, because: &str) -> Decided {
    let decided = Decided::of(step, decision, because, &work.case.journal.decided());
    step.decision = decision;
    step.decided = Some(because.to_owned());
    decided
}

/// What names of steps mean.
struct Meaning<'w> {
    work: &'w Work,
    /// What is found now, once it is needed.
    trace: OnceCell<Trace>,
}

impl Meaning<'_> {
    fn remnants(&self) -> &[Remnant] {
        &self.trace.get_or_init(|| self.work.trace()).remnants
    }

    /// The numbers of the steps that are meant: by their name, or by that of a remnant, a group, a user or a place.
    /// Of a group's or a user's steps, only those are taken that ask: what stays for a reason is named by itself.
    fn steps(&self, plan: &Plan, name: &str, decision: Decision) -> Result<Vec<usize>, CliError> {
        let numbers = |is_meant: &dyn Fn(&Step) -> bool| -> Vec<usize> {
            plan.steps.iter().enumerate().filter(|(_, step)| is_meant(step)).map(|(number, _)| number).collect()
        };
        let by_name = numbers(&|step| step.id.eq_ignore_ascii_case(name));
        if !by_name.is_empty() {
            return Ok(by_name);
        }
        let is_of = |step: &Step, remnants: &[&Remnant]| {
            let place = step.place.folded();
            remnants.iter().any(|remnant| remnant.place.folded() == place)
        };
        let remnant: Vec<&Remnant> = self.remnants().iter().filter(|one| one.id.eq_ignore_ascii_case(name)).collect();
        if !remnant.is_empty() {
            return some(numbers(&|step| is_of(step, &remnant)), name);
        }
        let only = Narrow { only: Some(name.to_owned()), user: None };
        let user = Narrow { only: None, user: Some(name.to_owned()) };
        if let Some(wanted) = [only, user].iter().find_map(|narrow| Wanted::of(narrow, self.work).ok()) {
            let several: Vec<&Remnant> = self.remnants().iter().filter(|remnant| wanted.has(remnant)).collect();
            let asks = |step: &Step| decision == Decision::Keep || step.decision == Decision::Ask;
            // A program of another product that holds a file of the subject is not a remnant, but its process is ended too.
            let runs = |step: &Step| step.kind == StepKind::EndProcess && wanted.is_what_runs();
            return Ok(numbers(&|step| (is_of(step, &several) || runs(step)) && asks(step)));
        }
        let spelled = [fold(name), fold(name.trim_matches('"'))];
        let is_called = |step: &Step| {
            let names = [fold(&step.place.to_string()), fold(&step.place.path)];
            names.iter().any(|name| spelled.contains(name))
        };
        let called = numbers(&is_called);
        if !called.is_empty() {
            return Ok(called);
        }
        let place = place_of(&self.work.survey, name);
        if !place.path.contains('\\') {
            return some(numbers(&|step| fold(&step.place.path) == fold(&place.path)), name);
        }
        let is_below = |step: &Step| is_inside_or_same(&step.place.path, &place.path);
        let found = numbers(&|step| {
            is_below(step) && place.name.as_ref().is_none_or(|_| step.place.folded() == place.folded())
        });
        if found.is_empty()
            && let Some(above) = plan.steps.iter().find(|step| place.is_within(&step.place))
        {
            return Err(CliError::InsideStep {
                place: place.to_string(),
                step: above.id.clone(),
                takes: above.place.to_string(),
            });
        }
        some(found, name)
    }
}

fn some(numbers: Vec<usize>, name: &str) -> Result<Vec<usize>, CliError> {
    if numbers.is_empty() { Err(CliError::NoStep(name.to_owned())) } else { Ok(numbers) }
}
