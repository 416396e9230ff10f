//! Is what setup has brought still there? For a setup program, whose tables nobody can read.

use super::installed::{BY_SETUP, REINSTALL};
use super::{Finding, Installed};
use crate::model::{Place, PlaceKind};
use crate::survey::Survey;
use crate::survey::compare::{Change, Difference};

/// Compares the machine with what appeared while setup ran. `restless` is what the system changes by itself.
pub fn brought(product: &str, changes: &[Change], restless: &[Place], survey: &Survey) -> Installed {
    let mut result = Installed { product: product.to_owned(), told_by: BY_SETUP.to_owned(), ..Installed::default() };
    let is_own = |change: &&Change| {
        change.how == Difference::Appeared && !restless.iter().any(|place| change.place.is_within(place))
    };
    for Change { place, .. } in changes.iter().filter(is_own) {
        let is_there = match place.kind {
            PlaceKind::File => {
                result.files += 1;
                survey.exists(&place.path)
            }
            PlaceKind::Value => {
                result.values += 1;
                let key = survey.registry.key(&place.path);
                key.and_then(|key| survey.registry.value(key, place.value_name())).is_some()
            }
            _ => continue,
        };
        if !is_there {
            let finding = Finding::new(place.clone(), "there, as setup has left it", "missing", REINSTALL);
            result.findings.push(finding);
        }
    }
    if result.files + result.values == 0 {
        let place = Place::folder(&survey.facts.windows[..2]);
        result.findings.push(Finding::new(place, "what setup brings", "nothing new since it ran", REINSTALL));
    }
    result
}
