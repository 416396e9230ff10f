use std::collections::BTreeMap;

use super::Rule;
use crate::content::Content;
use crate::model::path::{is_inside_or_same, leaf, parent};
use crate::model::text::fold;
use crate::model::{Place, list};
use crate::permits;
use crate::permits::slots::Takes;
use crate::survey::{EntryKind, NodeId};
use crate::trace::bystanders::{is_in_others, says_others};
use crate::trace::location::{below_classes, location};
use crate::trace::scene::NameFit;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// A folder anywhere that has the product's name and a program of it, where it or something in it is registered for the
/// whole machine: somebody has chosen that folder, and what named it as the install folder is gone. A copy that somebody
/// keeps is not registered.
pub struct RegisteredFolder;

impl Rule for RegisteredFolder {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        // Each folder with a value that leads there, and what that names.
        let mut called: BTreeMap<NodeId, (Place, String)> = BTreeMap::new();
        for (key, number) in scene.mentioned_so_far() {
            let Some(value) = number.and_then(|number| registry.values(key).nth(number)) else { continue };
            let mut texts: Vec<String> = value.text().into_iter().chain([value.name.to_owned()]).collect();
            texts.extend(list::entries(value.name, value.kind, value.data));
            texts.retain(|text| text.contains(":\\"));
            if texts.is_empty() || !is_registration(scene, &registry.path(key), value.name) {
                continue;
            }
            for text in texts {
                let path = scene.program(&text, None).unwrap_or(text);
                let Some(folder) = called_folder(scene, &path) else { continue };
                let from = Place::value(registry.path(key), value.name);
                called.entry(folder).or_insert((from, leaf(path.trim_end_matches('\\')).to_owned()));
            }
        }
        for (node, (from, what)) in called {
            let folder = scene.survey.files.path(node);
            if is_free(scene, claims, node, &folder) && holds_own_program(scene, &folder) {
                let why = format!(
                    "it has the product's name, holds a program that is a part of it, and {what} is registered"
                );
                claims.add(Place::folder(folder), Evidence::new(RuleId::RegisteredFolder, why, Some(from)));
            }
        }
    }
}

/// Whether a value is one by which programs register themselves for the whole machine; a note of Windows is none.
fn is_registration(scene: &Scene<'_>, key: &str, value: &str) -> bool {
    let folded = fold(key);
    folded.starts_with("HKLM\\")
        && (below_classes(key).is_some()
            || is_inside_or_same(key, &scene.survey.facts.services_key())
            || location(key, Some(value)).is_some_and(|found| found.takes != Takes::History))
}

/// The folder that is there, over a path or itself, which has the product's whole name.
fn called_folder(scene: &Scene<'_>, path: &str) -> Option<NodeId> {
    let files = &scene.survey.files;
    let path = scene.survey.spelled_out(path.trim_end_matches('\\'));
    let mut at = Some(path.as_ref());
    while let Some(folder) = at {
        if scene.fit(leaf(folder)) == Some(NameFit::Full) {
            return files.find(folder).filter(|node| files.data(*node).kind == EntryKind::Folder);
        }
        at = parent(folder);
    }
    None
}

/// Whether a folder is claimed by nobody, lies in no person's profile, and is neither another product's nor everybody's.
fn is_free(scene: &Scene<'_>, claims: &Claims, node: NodeId, folder: &str) -> bool {
    claims.folder_over(folder).is_none()
        && scene.user_of(folder).is_none()
        && !is_in_others(scene, folder)
        && !says_others(scene, node)
        && !permits::is_shared_root(folder, &scene.survey.facts)
}

/// Whether a program in a folder says that it is the subject's.
fn holds_own_program(scene: &Scene<'_>, folder: &str) -> bool {
    scene.survey.contents.iter().any(|told| match &told.content {
        Content::Program(version) => {
            scene.is_subject_name(&version.product) && is_inside_or_same(&scene.survey.files.path(told.file), folder)
        }
        _ => false,
    })
}
