//! A plan that puts single files of an installed product right, and touches nothing else.

use std::collections::{BTreeMap, BTreeSet};

use super::{FORMAT, Plan, Step, StepKind, state};
use crate::confirm::seal::sha256;
use crate::content::checked_list::CheckedList;
use crate::model::path::leaf;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::packages::layout::Layout;
use crate::packages::{Package, Registered};
use crate::survey::Survey;
use crate::trace::own_data::may_be_a_persons;
use crate::trace::{Decision, Standing};

/// A step for each file that is missing or has another content than the package. `contents` is what the
/// package holds, by file; `read` gives the content of a file on the machine. A file without a
/// version may have been changed by a person, and asks. With the plan comes what each step's file is to hold.
pub fn repair(
    survey: &Survey,
    package: &Package,
    contents: &BTreeMap<String, Vec<u8>>,
    read: &dyn Fn(&str) -> Option<Vec<u8>>,
    subject: &str,
) -> (Plan, Vec<Vec<u8>>) {
    let layout = Layout::on(package, survey, &Registered::read(survey));
    let (mut steps, mut wanted_by_steps) = (Vec::new(), Vec::new());
    for file in &package.files {
        let (Some(path), Some(wanted)) = (layout.file(&file.id), contents.get(&file.id)) else { continue };
        let found = read(path);
        if found.as_ref() == Some(wanted) {
            continue;
        }
        let (decision, why) = match &found {
            None => (Decision::Remove, "it is missing".to_owned()),
            Some(found) if !file.version.is_empty() || found.is_empty() => {
                (Decision::Remove, format!("it is not as in {} {}", package.name, package.version))
            }
            Some(_) => (
                Decision::Ask,
                format!(
                    "it is not as in {} {}; somebody may have changed it on purpose",
                    package.name, package.version
                ),
            ),
        };
        steps.push(replacing(survey, steps.len() + 1, path, decision, why, wanted));
        wanted_by_steps.push(wanted.clone());
    }
    (plan(survey, subject, steps), wanted_by_steps)
}

/// The same by the lists of checksums that the product keeps: a step for each file that is missing or has another
/// content than its list says, where another file of the machine has the right one; and the files for which no file has
/// it. `keep` is given what each step's file is to hold, one after the other: together they may be large.
pub fn repair_by_lists<E>(
    survey: &Survey,
    lists: &[CheckedList],
    read: &dyn Fn(&str) -> Option<Vec<u8>>,
    keep: &mut dyn FnMut(&[u8]) -> Result<(), E>,
    subject: &str,
) -> Result<(Plan, Vec<String>), E> {
    let (mut steps, mut without) = (Vec::new(), Vec::new());
    let mut seen = BTreeSet::new();
    for checked in lists {
        for fault in checked.faults.iter().filter(|fault| seen.insert(fold(&fault.file))) {
            let read = fault.copy.as_ref().and_then(|copy| Some((copy, read(copy)?)));
            // It may have changed since it was compared.
            let Some((copy, wanted)) = read.filter(|(_, content)| sha256(content) == fault.sha256) else {
                without.push(fault.file.clone());
                continue;
            };
            let is_changed = survey.has_file(&fault.file) && may_be_a_persons(leaf(&fault.file));
            let (decision, doubt) = match is_changed {
                true => (Decision::Ask, "; somebody may have changed it on purpose"),
                false => (Decision::Remove, ""),
            };
            let why =
                format!("not as {} says ({}); {copy} has the right content{doubt}", leaf(&checked.list), fault.seen);
            steps.push(replacing(survey, steps.len() + 1, &fault.file, decision, why, &wanted));
            keep(&wanted)?;
        }
    }
    Ok((plan(survey, subject, steps), without))
}

fn plan(survey: &Survey, subject: &str, steps: Vec<Step>) -> Plan {
    let machine = survey.facts.computer.clone();
    Plan { format: FORMAT.to_owned(), machine, subject: subject.to_owned(), steps }
}

/// The step that gives a file its right content.
fn replacing(survey: &Survey, number: usize, path: &str, decision: Decision, why: String, wanted: &[u8]) -> Step {
    let place = Place::new(PlaceKind::File, path);
    Step {
        id: format!("s{number:02}"),
        decision,
        decided: None,
        kind: StepKind::ReplaceFile,
        rung: 2,
        expect: state(survey, &place, &[]).unwrap_or_default(),
        place,
        title: String::new(),
        parts: Vec::new(),
        standing: Standing::Certain,
        why,
        after: Vec::new(),
        requires: Vec::new(),
        content: Some(blake3::hash(wanted).to_hex().to_string()),
    }
}
