//! Whose a place is, if it is not the subject's.

use super::scene::Other;
use super::{Bystander, Decision, Remnant, Scene};
use crate::content::Content;
use crate::model::path::{is_inside_or_same, leaf, parent};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::subject::AnchorKind;
use crate::subject::names::{product_words, squashed, together};
use crate::survey::{EntryKind, NodeId};
use crate::units::drivers::Driver;

impl Other {
    /// Whether its name, or that without its first word, is this one, written together.
    pub fn may_be_called(&self, name: &str) -> bool {
        let words = product_words(&self.name);
        together(&words) == name || words.len() > 1 && together(&words[1..]) == name
    }

    /// Whether a folder's or key's name names this product. A number alone, such as a version, names nothing.
    pub fn names(&self, name: &str) -> bool {
        if !name.chars().any(char::is_alphabetic) {
            return false;
        }
        let full = together(&product_words(&self.name));
        let by_folder = self.folders.iter().any(|folder| fold(leaf(folder)) == fold(name));
        squashed(name) == full || by_folder
    }
}

/// The other product whose own folder this is.
pub fn owner_of_folder(scene: &Scene<'_>, path: &str) -> Option<String> {
    let owner = scene.owners().folders.get(&fold(path)).map(|number| &scene.others[*number]);
    owner.filter(|_| !is_subjects_too(scene, path)).map(|other| other.name.clone())
}

/// Whether a file or folder lies in another product's own folder, or is a part of one: whatever a log or
/// somebody's list says, it is not taken for that.
pub fn is_in_others(scene: &Scene<'_>, path: &str) -> bool {
    let mut above = Some(path);
    while let Some(at) = above {
        if owner_of_folder(scene, at).is_some() {
            return true;
        }
        above = parent(at);
    }
    scene.survey.entry(path).is_some_and(|entry| shares_file(scene, entry).is_some())
}

/// Whether a driver package is another product's: its files say that they are a part of something else than
/// the subject, or its INF lies in another product's folder.
pub fn is_driver_of_others(scene: &Scene<'_>, driver: &Driver) -> bool {
    let survey = scene.survey;
    let files = driver.parts.iter().filter(|part| part.kind == PlaceKind::File);
    let told = files.filter_map(|part| survey.version_of(&part.path)).map(|version| version.product.as_str());
    let told: Vec<&str> = told.filter(|product| !product.is_empty()).collect();
    if told.iter().any(|product| scene.is_subject_name(product)) {
        return false;
    }
    let inf = fold(&driver.original);
    let is_inf = |at: NodeId| survey.files.data(at).kind == EntryKind::File && fold(survey.files.name(at)) == inf;
    let holds = |folder: NodeId| survey.files.below(folder).into_iter().any(is_inf);
    let folders = scene.others.iter().flat_map(|other| &other.folders);
    !told.is_empty() || !inf.is_empty() && folders.filter_map(|folder| survey.files.find(folder)).any(holds)
}

/// Whether a key bears another product's name, or lies below one that does.
pub fn is_key_of_others(scene: &Scene<'_>, key: &str) -> bool {
    let names = |part: &str| scene.others.iter().any(|other| other.names(part));
    key.split('\\').skip(2).any(names)
}

/// Whether the programs directly in a folder say that they are parts of another product that is
/// installed, and none that it is a part of the subject.
pub fn says_others(scene: &Scene<'_>, folder: NodeId) -> bool {
    let survey = scene.survey;
    let told = survey.contents.iter().filter_map(|told| match &told.content {
        Content::Program(version) if survey.files.parent(told.file) == folder => Some(version.product.as_str()),
        _ => None,
    });
    let mut others = false;
    for product in told.filter(|product| !product.is_empty()) {
        if scene.is_subject_name(product) {
            return false;
        }
        let own = together(&product_words(product));
        others |= scene.others.iter().any(|other| together(&product_words(&other.name)) == own);
    }
    others
}

/// Another product that has this file registered as a part of its own.
pub fn shares_file(scene: &Scene<'_>, file: NodeId) -> Option<String> {
    let clients = scene.owners().parts.get(&file)?;
    let own = [AnchorKind::ProductCode, AnchorKind::EarlierProduct].map(|kind| scene.subject.codes(kind)).concat();
    for code in clients.iter().filter(|code| !own.contains(code)) {
        let Some(product) = scene.registered.products.get(code) else { continue };
        if !scene.is_subject_name(&product.name) {
            return Some(if product.name.is_empty() { code.to_string() } else { product.name.clone() });
        }
    }
    None
}

/// A folder that the subject's own registrations name as well, as a shared run-time folder is.
fn is_subjects_too(scene: &Scene<'_>, path: &str) -> bool {
    let own = [AnchorKind::ProductCode, AnchorKind::EarlierProduct].map(|kind| scene.subject.codes(kind)).concat();
    let mut products = own.iter().filter_map(|code| scene.registered.products.get(code));
    products.any(|product| {
        product.location.as_deref().is_some_and(|location| fold(location.trim_end_matches('\\')) == fold(path))
    })
}

/// What lies beside the remnants and is somebody else's: shown, so that a person sees that it was
/// seen.
pub fn next_door(scene: &Scene<'_>, remnants: &[Remnant]) -> Vec<Bystander> {
    let mut found = Vec::new();
    let removed =
        |place: &Place| remnants.iter().any(|one| one.decision == Decision::Remove && place.is_within(&one.place));
    for remnant in remnants {
        let Some(above) = parent(&remnant.place.path) else { continue };
        if !scene.is_publisher(leaf(above)) {
            continue;
        }
        match remnant.place.kind {
            PlaceKind::Folder => {
                let Some(folder) = scene.survey.files.find(above) else { continue };
                for child in scene.survey.files.children(folder) {
                    let path = scene.survey.files.path(child);
                    if let Some(owner) = owner_inside(scene, &path)
                        && !removed(&Place::folder(&path))
                    {
                        found.push(Bystander { place: Place::folder(path), text: format!("used by {owner}"), owner });
                    }
                }
            }
            PlaceKind::Key => {
                let Some(key) = scene.survey.registry.key(above) else { continue };
                for child in scene.survey.registry.keys().children(key) {
                    let name = scene.survey.registry.name(child);
                    let Some(other) = scene.others.iter().find(|other| other.names(name)) else { continue };
                    let place = Place::key(scene.survey.registry.path(child));
                    if !removed(&place) {
                        let text = format!("named after {}", other.name);
                        found.push(Bystander { place, owner: other.name.clone(), text });
                    }
                }
            }
            _ => {}
        }
    }
    found.extend(similar_names(scene));
    found.sort();
    found.dedup();
    found
}

/// Letters that two words must share at their beginning to be taken for one another.
const LOOKS_ALIKE: usize = 5;

/// Other products whose names look like the subject's: said, so that nobody wonders.
fn similar_names(scene: &Scene<'_>) -> Vec<Bystander> {
    let own = product_words(&scene.subject.name);
    let alike = |word: &String| {
        own.iter().any(|other| word.chars().zip(other.chars()).take_while(|(a, b)| a == b).count() >= LOOKS_ALIKE)
    };
    let similar = scene.others.iter().filter(|other| product_words(&other.name).iter().any(alike));
    similar
        .filter_map(|other| {
            let folder = other.folders.first()?;
            let text = format!("{}: a similar name, another product", other.name);
            Some(Bystander { place: Place::folder(folder), owner: other.name.clone(), text })
        })
        .collect()
}

/// The other product that lives in a folder or somewhere below it.
fn owner_inside(scene: &Scene<'_>, path: &str) -> Option<String> {
    let lives =
        |other: &&Other| other.folders.iter().any(|folder| is_inside_or_same(folder, path)) || other.names(leaf(path));
    scene.others.iter().find(lives).map(|other| other.name.clone())
}
