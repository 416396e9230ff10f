use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::{Place, PlaceKind};

/// A product of the subject that the list of programs shows, and whose files are gone, all or some.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let survey = situation.survey;
    let mut found = Vec::new();
    for (code, product) in &situation.registered.products {
        let Some(id) = situation.remnant_of(*code) else { continue };
        let files: Vec<&String> = product.key_paths.iter().filter(|path| path.get(1..3) == Some(":\\")).collect();
        let gone: Vec<&&String> = files.iter().filter(|path| !survey.exists(path)).collect();
        if product.entry.is_none() || gone.is_empty() {
            continue;
        }
        let all = gone.len() == files.len();
        let name = situation.product_name(*code);
        let title = match all {
            true => format!("{name} is registered, and nothing of it is on the disk"),
            false => format!("{name} is damaged: {} of {} parts are gone", gone.len(), files.len()),
        };
        let mut evidence: Vec<String> = gone.iter().take(3).map(|path| format!("{path} is not there")).collect();
        if gone.len() > 3 {
            evidence.push(format!("and {} more", gone.len() - 3));
        }
        // Setup replaces it anyway; without one this is what is wrong.
        let severity = if situation.known.payload.is_some() { Severity::WorthKnowing } else { Severity::MayFail };
        let advice = match product.cache_is_there(survey) {
            Some(true) => "Repair it: its cached package is still there.".to_owned(),
            _ => format!("It cannot be repaired, since its cached package is not there; clear it ({id})."),
        };
        let place = Place::new(PlaceKind::Product, code.to_string());
        found.push(blocker("damaged", severity, title, Some(place), evidence, advice));
    }
    found
}
