use super::Rule;
use crate::model::Place;
use crate::survey::{EntryKind, NodeId};
use crate::trace::scene::NameFit;
use crate::trace::{Claims, Evidence, Scene};

/// Folders with the product's name in the well-known roots, below the publisher's folder or
/// directly, for the machine and for every user.
pub struct NamedFolder;

impl Rule for NamedFolder {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let files = &scene.survey.files;
        for root in roots(scene) {
            let Some(root) = files.find(&root) else { continue };
            for child in files.children(root).filter(|child| files.data(*child).kind == EntryKind::Folder) {
                if scene.fit(files.name(child)) == Some(NameFit::Full) {
                    let text = "it has the product's name in a folder where programs keep their own".to_owned();
                    claims.add(Place::folder(files.path(child)), Evidence::new("named-folder-alone", text, None));
                } else if scene.is_publisher(files.name(child)) {
                    below_publisher(scene, child, claims);
                }
            }
        }
    }
}

fn below_publisher(scene: &Scene<'_>, publisher: NodeId, claims: &mut Claims) {
    let files = &scene.survey.files;
    for child in files.children(publisher).filter(|child| files.data(*child).kind == EntryKind::Folder) {
        let (rule, what) = match scene.fit(files.name(child)) {
            Some(NameFit::Full) => ("named-folder", "the product's name"),
            Some(NameFit::Folder) => ("named-folder", "the name of the product's install folder"),
            Some(NameFit::Short) => ("short-name", "the product's name without its brand"),
            None => continue,
        };
        let text = format!("it has {what}, in the publisher's folder {}", files.name(publisher));
        claims.add(Place::folder(files.path(child)), Evidence::new(rule, text, None));
    }
}

fn roots(scene: &Scene<'_>) -> Vec<String> {
    let facts = &scene.survey.facts;
    let mut roots: Vec<String> = facts.program_folders().into_iter().map(str::to_owned).collect();
    roots.extend(facts.program_folders().into_iter().map(|folder| format!("{folder}\\Common Files")));
    roots.push(facts.program_data.clone());
    for user in &facts.users {
        roots.extend([
            user.roaming(),
            user.local(),
            format!("{}Low", user.local()),
            format!("{}\\Programs", user.local()),
        ]);
    }
    roots
}
