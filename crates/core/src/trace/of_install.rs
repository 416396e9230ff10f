//! Values of a user's key that say no more than where and in which version the subject is installed. Setup wrote them,
//! and they are no settings.

use crate::model::Place;
use crate::model::path::{is_inside_or_same, plain};
use crate::model::text::fold;
use crate::survey::{KeyId, User};

use super::Scene;

/// Names of values that tell a version, folded.
const VERSIONS: [&str; 6] =
    ["VERSION", "INSTALLEDVERSION", "CURRENTVERSION", "PRODUCTVERSION", "DISPLAYVERSION", "BUILD"];

/// What a user's key, with all below it, holds of that kind.
#[derive(Debug, Default)]
pub struct OfInstall {
    /// Values that lead into the subject's own folder.
    pub leading: Vec<Place>,
    /// Whether there is nothing else in it, but for versions.
    pub alone: bool,
}

impl OfInstall {
    /// Reads a key of a user's. `owns` tells whether a path is claimed for the subject, or lies in such a place.
    pub fn read(scene: &Scene<'_>, key: KeyId, user: &User, owns: &dyn Fn(&str) -> bool) -> Self {
        let registry = &scene.survey.registry;
        let environment = scene.survey.environment(Some(user));
        let programs = format!("{}\\Programs", user.local());
        let leads = |text: &str| {
            let path = plain(text.trim_matches('"'), &environment);
            let is_path = path.as_bytes().get(1) == Some(&b':');
            // What lies in a profile is the user's, but for programs that were installed there.
            let is_users = is_inside_or_same(&path, &user.profile) && !is_inside_or_same(&path, &programs);
            is_path && !is_users && owns(path.trim_end_matches('\\'))
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
