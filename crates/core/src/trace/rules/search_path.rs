use super::Rule;
use crate::model::path::plain;
use crate::model::{Place, list};
use crate::trace::location::lists;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Entries of the search paths, of the machine and of each user, that lead into a folder of the
/// subject.
pub struct SearchPath;

impl Rule for SearchPath {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let facts = &scene.survey.facts;
        let machine = format!("HKLM\\SYSTEM\\{}\\Control\\Session Manager\\Environment", facts.control_set);
        let users = facts.users.iter().map(|user| (format!("{}\\Environment", user.hive()), Some(user)));
        let registry = &scene.survey.registry;
        for (path, user) in std::iter::once((machine, None)).chain(users) {
            let Some(key) = registry.key(&path) else { continue };
            for value in lists().filter_map(|name| registry.value(key, name)) {
                for entry in list::entries(value.name, value.kind, value.data) {
                    let target = plain(entry.trim_matches('"'), &scene.survey.environment(user));
                    let Some(lead) = scene.lead(claims, &target) else { continue };
                    let text = format!("programs are looked for in {target}, {}", lead.words());
                    let place = Place::list_entry(registry.path(key), value.name, entry.as_str());
                    claims.add(place, Evidence::new(lead.rule(RuleId::SearchPath), text, Some(lead.place)));
                }
            }
        }
    }
}
