use super::Rule;
use crate::content::{Content, Told};
use crate::model::path::{is_inside_or_same, leaf, parent};
use crate::model::text::fold;
use crate::model::{Place, list};
use crate::survey::EntryKind;
use crate::trace::bystanders::{is_in_others, says_others};
use crate::trace::location::{Takes, below_classes, location};
use crate::trace::scene::NameFit;
use crate::trace::{Claims, Evidence, Scene, protected};

/// A folder anywhere that has the product's name and a program of it, where it or something in it is registered for the
/// whole machine: somebody has chosen that folder, and what named it as the install folder is gone. A copy that somebody
/// keeps is not registered.
pub struct RegisteredFolder;

impl Rule for RegisteredFolder {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        // What mentions the subject by its name has been looked for already.
        for (key, number) in scene.mentions(Vec::new()) {
            let Some(value) = number.and_then(|number| registry.values(key).nth(number)) else { continue };
            let mut texts: Vec<String> = value.text().into_iter().chain([value.name.to_owned()]).collect();
            texts.extend(list::entries(value.name, value.kind, value.data));
            texts.retain(|text| text.contains(":\\"));
            if texts.is_empty() || !is_registration(scene, &registry.path(key), value.name) {
                continue;
            }
            for text in texts {
                let path = scene.program(&text, None).unwrap_or(text);
                let Some(folder) = called_folder(scene, claims, &path) else { continue };
                let why = format!(
                    "it has the product's name, holds a program that is a part of it, and {} is registered",
                    leaf(path.trim_end_matches('\\'))
                );
                let from = Place::value(registry.path(key), value.name);
                claims.add(Place::folder(folder), Evidence::new("registered-folder", why, Some(from)));
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

/// The folder that is there, over a path or itself, which has the product's whole name and is nobody's yet. Of its
/// programs one says that it is the subject's, and none that it is somebody else's.
fn called_folder(scene: &Scene<'_>, claims: &Claims, path: &str) -> Option<String> {
    let survey = scene.survey;
    let path = survey.spelled_out(path.trim_end_matches('\\'));
    let mut at = Some(path.as_ref());
    let folder = loop {
        let folder = at?;
        if scene.fit(leaf(folder)) == Some(NameFit::Full) {
            break folder;
        }
        at = parent(folder);
    };
    let node = survey.files.find(folder).filter(|node| survey.files.data(*node).kind == EntryKind::Folder)?;
    let is_free = claims.folder_over(folder).is_none()
        && !is_in_others(scene, folder)
        && !says_others(scene, node)
        && !protected::is_shared_root(folder, &survey.facts);
    let is_own = |told: &Told| match &told.content {
        Content::Program(version) => {
            scene.is_subject_name(&version.product) && is_inside_or_same(&survey.files.path(told.file), folder)
        }
        _ => false,
    };
    (is_free && survey.contents.iter().any(is_own)).then(|| survey.files.path(node))
}
