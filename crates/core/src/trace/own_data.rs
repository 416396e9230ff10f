//! What in an application's folders is the user's own.

use std::collections::BTreeSet;
use std::sync::LazyLock;

use serde::Deserialize;

use super::Scene;
use crate::model::text::fold;
use crate::subject::{AnchorKind, opened_with};
use crate::survey::NodeId;

#[derive(Deserialize)]
struct Table {
    document: Vec<String>,
    settings: Vec<String>,
    licence: Vec<String>,
    made_again: Vec<String>,
}

static TABLE: LazyLock<Table> =
    LazyLock::new(|| toml::from_str(include_str!("../../data/own_data.toml")).expect("the table is tested"));

/// Tells the user's own files from those that the program makes again.
pub struct OwnData {
    /// Extensions of documents that the subject registers as its own, folded.
    registered: BTreeSet<String>,
    /// Files and folders that a footprint calls settings or people's own, folded.
    printed: BTreeSet<String>,
}

impl OwnData {
    /// The subject's file types: those known of it, and those that open with a program of it now.
    /// What is known of it stays known when the program is gone from the disk.
    pub fn new(scene: &Scene<'_>, owns_program: &dyn Fn(&str) -> bool) -> Self {
        let known = scene.subject.all(AnchorKind::FileType).map(fold);
        let now = opened_with(scene.survey).into_iter().filter(|(_, program)| owns_program(program));
        let registered = known.chain(now.map(|(extension, _)| fold(&extension))).collect();
        Self { registered, printed: scene.subject.all(AnchorKind::PrintedData).map(fold).collect() }
    }

    /// Why an entry stays that a footprint calls settings or people's own, or that lies in such a folder.
    pub fn printed(&self, scene: &Scene<'_>, at: NodeId) -> Option<String> {
        if self.printed.is_empty() {
            return None;
        }
        let path = fold(&scene.survey.files.path(at));
        let mut above = Some(path.as_str());
        while let Some(part) = above {
            if self.printed.contains(part) {
                return Some("the footprint says that it is somebody's settings or own data".to_owned());
            }
            above = crate::model::path::parent(part);
        }
        None
    }

    /// Why a file in a user's profile is the user's own, or `None` where the program makes it.
    pub fn why(&self, scene: &Scene<'_>, file: NodeId, top: NodeId) -> Option<String> {
        if is_made_again(scene, file, top) {
            return None;
        }
        let name = scene.survey.files.name(file);
        let (stem, extension) = name.rsplit_once('.')?;
        let lower = extension.to_lowercase();
        let among = |list: &[String]| list.contains(&lower);
        if self.registered.contains(&fold(extension)) {
            return Some(format!("a document of the user: {} opens .{lower} files", scene.subject.name));
        }
        if among(&TABLE.document) {
            return Some("a document of the user".to_owned());
        }
        let named_settings = ["settings", "preferences", "config"].contains(&stem.to_lowercase().as_str());
        if among(&TABLE.settings) || named_settings {
            return Some("settings of the user".to_owned());
        }
        among(&TABLE.licence).then(|| "a licence of the user".to_owned())
    }

    /// Why a file in the machine's own data stays: what people make, and what they have paid for.
    pub fn why_of_machine(&self, scene: &Scene<'_>, file: NodeId) -> Option<String> {
        let (_, extension) = scene.survey.files.name(file).rsplit_once('.')?;
        if self.registered.contains(&fold(extension)) {
            let lower = extension.to_lowercase();
            return Some(format!("a document of somebody here: {} opens .{lower} files", scene.subject.name));
        }
        TABLE.licence.contains(&extension.to_lowercase()).then(|| "a licence".to_owned())
    }
}

/// Whether a file lies in a folder for what the program can make again.
pub fn is_made_again(scene: &Scene<'_>, file: NodeId, top: NodeId) -> bool {
    let files = &scene.survey.files;
    let mut above = file;
    while above != top && above != files.root() {
        above = files.parent(above);
        if TABLE.made_again.contains(&files.name(above).to_lowercase()) {
            return true;
        }
    }
    false
}
