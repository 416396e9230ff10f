use std::collections::BTreeSet;

use super::Rule;
use crate::model::Place;
use crate::model::path::{is_inside_or_same, leaf};
use crate::model::text::fold;
use crate::trace::location::after_programs;
use crate::trace::{Claims, Evidence, Scene};

/// Settings that Windows keeps for a program by the name of its file alone: how it is started, watched
/// and helped when it fails. Only a name that no other program on the disk has tells whose they are.
pub struct ProgramSettings;

impl Rule for ProgramSettings {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        let named: Vec<_> = after_programs().flat_map(|root| registry.subkeys(&root)).collect();
        if named.is_empty() {
            return;
        }
        let folders: Vec<String> = claims.folders().map(|place| place.path.clone()).collect();
        let (mut own, mut others) = (BTreeSet::new(), BTreeSet::new());
        for path in scene.files_called(named.iter().map(|key| registry.name(*key))) {
            let is_own = folders.iter().any(|folder| is_inside_or_same(path, folder));
            if is_own { &mut own } else { &mut others }.insert(fold(leaf(path)));
        }
        for key in named {
            let name = fold(registry.name(key));
            if own.contains(&name) && !others.contains(&name) {
                let text = format!("Windows keeps settings there for {}, a program of the subject", registry.name(key));
                claims.add(Place::key(registry.path(key)), Evidence::new("program-settings", text, None));
            }
        }
    }
}
