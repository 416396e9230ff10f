use super::Rule;
use crate::model::Place;
use crate::packages::registered::uninstall_keys;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// The subject's entry in the list of programs, in both views and for each user.
pub struct ListEntry;

impl Rule for ListEntry {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        for list in uninstall_keys(scene.survey) {
            for key in registry.subkeys(&list).into_iter().filter(|key| scene.is_subject_entry(*key)) {
                let name = registry.text(key, "DisplayName").unwrap_or_default();
                let version = registry.text(key, "DisplayVersion").unwrap_or_default();
                let text = format!("the list of programs shows it as \"{name}\" {version}");
                claims.add(
                    Place::key(registry.path(key)),
                    Evidence::new(RuleId::ListEntry, text.trim_end().to_owned(), None),
                );
            }
        }
    }
}
