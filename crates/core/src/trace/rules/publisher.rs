use super::Rule;
use crate::model::Place;
use crate::subject::Scope;
use crate::survey::EntryKind;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Folders and keys of the publisher, where all of its products are meant.
pub struct Publisher;

impl Rule for Publisher {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        if scene.subject.scope != Scope::Publisher {
            return;
        }
        let text = || "it has the publisher's name, and all of its products are meant".to_owned();
        let files = &scene.survey.files;
        for root in &scene.roots {
            let Some(root) = files.find(root) else { continue };
            for child in files.children(root) {
                if files.data(child).kind == EntryKind::Folder && scene.is_publisher(files.name(child)) {
                    claims.add(Place::folder(files.path(child)), Evidence::new(RuleId::Publisher, text(), None));
                }
            }
        }
        let registry = &scene.survey.registry;
        let users = scene.survey.facts.users.iter().map(|user| format!("{}\\SOFTWARE", user.hive()));
        for root in scene.survey.facts.software_views().into_iter().map(str::to_owned).chain(users) {
            for key in registry.subkeys(&root).into_iter().filter(|key| scene.is_publisher(registry.name(*key))) {
                claims.add(Place::key(registry.path(key)), Evidence::new(RuleId::Publisher, text(), None));
            }
        }
    }
}
