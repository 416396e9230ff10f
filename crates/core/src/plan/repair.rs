//! A plan that puts single files of an installed product right, and touches nothing else.

use std::collections::BTreeMap;

use super::{FORMAT, Plan, Step, StepKind, state};
use crate::model::{Place, PlaceKind};
use crate::packages::layout::Layout;
use crate::packages::{Package, Registered};
use crate::survey::Survey;
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
        let place = Place::new(PlaceKind::File, path);
        steps.push(Step {
            id: format!("s{:02}", steps.len() + 1),
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
        });
        wanted_by_steps.push(wanted.clone());
    }
    let machine = survey.facts.computer.clone();
    (Plan { format: FORMAT.to_owned(), machine, subject: subject.to_owned(), steps }, wanted_by_steps)
}
