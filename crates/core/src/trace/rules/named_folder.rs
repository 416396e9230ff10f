use super::Rule;
use crate::model::Place;
use crate::subject::names::product_words;
use crate::survey::{EntryKind, NodeId};
use crate::trace::bystanders::{owner_of_folder, says_others};
use crate::trace::scene::NameFit;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Folders with the product's name in the well-known roots, below the publisher's folder or
/// directly, for the machine and for every user.
pub struct NamedFolder;

impl Rule for NamedFolder {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let files = &scene.survey.files;
        for root in &scene.roots {
            let Some(root) = files.find(root) else { continue };
            for child in files.children(root).filter(|child| files.data(*child).kind == EntryKind::Folder) {
                if owner_of_folder(scene, &files.path(child)).is_some() || says_others(scene, child) {
                    continue;
                }
                if scene.fit(files.name(child)) == Some(NameFit::Full) {
                    let text = "it has the product's name in a folder where programs keep their own".to_owned();
                    claims.add(Place::folder(files.path(child)), Evidence::new(RuleId::NamedFolderAlone, text, None));
                } else if scene.is_publisher(files.name(child)) {
                    below_publisher(scene, child, claims);
                } else {
                    below_others(scene, child, claims);
                }
            }
        }
    }
}

fn below_publisher(scene: &Scene<'_>, publisher: NodeId, claims: &mut Claims) {
    let files = &scene.survey.files;
    let is_free = |at: &NodeId| {
        let is_folder = files.data(*at).kind == EntryKind::Folder;
        is_folder && owner_of_folder(scene, &files.path(*at)).is_none() && !says_others(scene, *at)
    };
    for child in files.children(publisher).filter(is_free) {
        let (rule, what) = match scene.fit_at_publisher(files.name(child)) {
            Some(NameFit::Full) => (RuleId::NamedFolder, "the product's name"),
            Some(NameFit::Folder) => (RuleId::NamedFolder, "the name of the product's install folder"),
            Some(NameFit::Short) => (RuleId::ShortName, "the product's name without its brand"),
            None => continue,
        };
        let text = format!("it has {what}, in the publisher's folder {}", files.name(publisher));
        claims.add(Place::folder(files.path(child)), Evidence::new(rule, text, None));
    }
}

/// The whole name, of several words, in a folder of somebody else: publishers change their names.
fn below_others(scene: &Scene<'_>, above: NodeId, claims: &mut Claims) {
    let files = &scene.survey.files;
    for child in files.children(above).filter(|child| files.data(*child).kind == EntryKind::Folder) {
        let name = files.name(child);
        let is_whole = scene.fit(name) == Some(NameFit::Full) && product_words(name).len() > 1;
        if is_whole && owner_of_folder(scene, &files.path(child)).is_none() && !says_others(scene, child) {
            let text = format!("it has the product's name, in the folder {} of another publisher", files.name(above));
            claims.add(Place::folder(files.path(child)), Evidence::new(RuleId::NamedFolderElsewhere, text, None));
        }
    }
}
