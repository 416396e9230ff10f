use super::Rule;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, Scene};

/// Programs of the subject that start at sign-in, from the `Run` keys of machine and users.
pub struct Startup;

impl Rule for Startup {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        let facts = &scene.survey.facts;
        let machine = facts.software_views().into_iter().map(|view| (view.to_owned(), None));
        let users = facts.users.iter().map(|user| (format!("{}\\SOFTWARE", user.hive()), Some(user)));
        for (root, user) in machine.chain(users) {
            let path = format!("{root}\\Microsoft\\Windows\\CurrentVersion\\Run");
            let Some(key) = registry.key(&path) else { continue };
            for value in registry.values(key) {
                let Some(program) = value.text().and_then(|command| scene.program(&command, user)) else { continue };
                let Some(folder) = claims.folder_over(&program).map(|claim| claim.place.clone()) else { continue };
                let place =
                    Place { kind: PlaceKind::Startup, path: registry.path(key), name: Some(value.name.to_owned()) };
                let text = format!("it starts {program}, in a folder of the subject");
                claims.add(place, Evidence::new("startup-command", text, Some(folder)));
            }
        }
    }
}
