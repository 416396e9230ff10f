//! Values of a user's key that contain the folder and the version of the installed subject. Setup writes them, so they
//! are not settings of the user.

use crate::model::Place;
use crate::model::path::{is_inside_or_same, plain};
use crate::model::text::fold;
use crate::survey::{KeyId, User};

use super::Scene;

/// Names of values that tell a version, folded.
const VERSIONS: [&str; 6] =
    ["VERSION", "INSTALLEDVERSION", "CURRENTVERSION", "PRODUCTVERSION", "DISPLAYVERSION", "BUILD"];

/// Such values in a user's key and its subkeys.
#[derive(Debug, Default)]
pub struct OfInstall {
    /// Values with a folder or a program of the subject.
    pub leading: Vec<Place>,
    /// Whether the key contains only these and versions.
    pub alone: bool,
}

impl OfInstall {
    /// Reads a user's key. `owns` reports whether a path is claimed for the subject, or is inside such a place.
    pub fn read(scene: &Scene<'_>, key: KeyId, user: &User, owns: &dyn Fn(&str) -> bool) -> Self {
        let registry = &scene.survey.registry;
        let environment = scene.survey.environment(Some(user));
        let programs = format!("{}\\Programs", user.local());
        let leads = |text: &str| {
            let path = plain(text.trim_matches('"'), &environment);
            let is_path = path.as_bytes().get(1) == Some(&b':');
            // A data folder is a choice of the user, and a file that is not a program may be a document used last.
            let is_data = is_inside_or_same(&path, &user.profile) && !is_inside_or_same(&path, &programs)
                || is_inside_or_same(&path, &scene.survey.facts.program_data);
            let is_document = scene.survey.has_file(&path) && !fold(&path).ends_with(".EXE");
            is_path && !is_data && !is_document && owns(path.trim_end_matches('\\'))
        };
        let is_version = |name: &str, text: &str| {
            let is_number = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.');
            VERSIONS.contains(&fold(name).as_str()) && is_number
        };
        let mut found = Self { alone: true, ..Self::default() };
        for at in registry.keys().below(key) {
            for value in registry.values(at) {
                match value.text() {
                    Some(text) if leads(&text) => found.leading.push(Place::value(registry.path(at), value.name)),
                    Some(text) if is_version(value.name, &text) => {}
                    _ => found.alone = false,
                }
            }
        }
        found.alone &= !found.leading.is_empty();
        found
    }
}
