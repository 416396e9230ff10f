//! What in an application's folders is the user's own.

use std::collections::BTreeSet;
use std::sync::LazyLock;

use serde::Deserialize;

use super::{Decision, Scene};
use crate::model::FileTime;
use crate::model::text::fold;
use crate::subject::{AnchorKind, opened_with};
use crate::survey::{EntryKind, NodeId};

#[derive(Deserialize)]
struct Table {
    document: Vec<String>,
    settings: Vec<String>,
    licence: Vec<String>,
    profile: Vec<String>,
    program: Vec<String>,
    made_again: Vec<String>,
}

static TABLE: LazyLock<Table> =
    LazyLock::new(|| toml::from_str(include_str!("../../data/own_data.toml")).expect("the table is tested"));

/// Whether a file has a name as people's documents and their settings have.
pub fn may_be_a_persons(name: &str) -> bool {
    let name = name.to_lowercase();
    let extension = name.rsplit_once('.').map(|(_, extension)| extension).unwrap_or_default();
    let among = |list: &[String]| list.iter().any(|one| one == extension);
    among(&TABLE.document) || among(&TABLE.settings) || TABLE.profile.contains(&name)
}

/// Tells the user's own files from those that the program makes again.
pub struct OwnData {
    /// Extensions of documents that the subject registers as its own, folded.
    registered: BTreeSet<String>,
    /// Files and folders that a footprint calls settings or people's own, folded.
    printed: BTreeSet<String>,
    /// When the subject was last registered, else when the newest of its programs came, else when its first key was made.
    installed: Option<FileTime>,
    /// When its programs came, in order: what was made in the same minutes came with one.
    programs: Vec<FileTime>,
}

/// How long after an install a file may have been changed by it, in units of 100 ns: ten minutes.
const NEAR: u64 = 10 * 60 * 10_000_000;

impl OwnData {
    /// The subject's file types: those known of it, and those that open with a program of it now.
    /// What is known of it stays known when the program is gone from the disk.
    /// `keys` are the subject's, as far as something claims them.
    pub fn new(scene: &Scene<'_>, keys: &[&str], owns_program: &dyn Fn(&str) -> bool) -> Self {
        let known = scene.subject.all(AnchorKind::FileType).map(fold);
        let now = opened_with(scene.survey).into_iter().filter(|(_, program)| owns_program(program));
        let registered = known.chain(now.map(|(extension, _)| fold(&extension))).collect();
        let printed = scene.subject.all(AnchorKind::PrintedData).map(fold).collect();
        let programs = programs(scene, owns_program);
        let registration = super::time::installs(scene).into_iter().map(|(_, time)| time).max_by_key(|time| time.0);
        // The first of its keys is no younger than its last install.
        let time = |path: &&str| Some(scene.survey.registry.keys().data(scene.survey.registry.key(path)?).last_written);
        let first_key = || keys.iter().filter_map(time).filter(|time| time.0 != 0).min_by_key(|time| time.0);
        let known = registration.or(programs.last().copied()).filter(|time| time.0 != 0);
        let installed = known.or_else(first_key);
        Self { registered, printed, installed, programs }
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
        let (stem, extension) = name.rsplit_once('.').unwrap_or((name, ""));
        let lower = extension.to_lowercase();
        let among = |list: &[String]| list.contains(&lower);
        if self.registered.contains(&fold(extension)) {
            return Some(format!("a document of the user: {} opens .{lower} files", scene.subject.name));
        }
        if among(&TABLE.document) || TABLE.profile.contains(&name.to_lowercase()) {
            return Some("a document of the user".to_owned());
        }
        let named_settings = ["settings", "preferences", "config"].contains(&stem.to_lowercase().as_str());
        if among(&TABLE.settings) || named_settings {
            return Some("settings of the user".to_owned());
        }
        among(&TABLE.licence).then(|| "a licence of the user".to_owned())
    }

    /// Whether a file was changed after the subject was installed, and not in the minutes of an update; `None` if it
    /// is not known when that was.
    fn is_later(&self, scene: &Scene<'_>, file: NodeId) -> Option<bool> {
        let changed = scene.survey.files.data(file).modified.0;
        self.installed.map(|installed| changed > installed.0.saturating_add(NEAR) && !self.is_brought(scene, file))
    }

    /// Whether a file is from the minutes of an install or of an update.
    fn is_brought(&self, scene: &Scene<'_>, file: NodeId) -> bool {
        let changed = scene.survey.files.data(file).modified.0;
        let next = self.programs.partition_point(|time| time.0 < changed.saturating_sub(NEAR));
        let came_with_one = self.programs.get(next).is_some_and(|time| time.0 <= changed.saturating_add(NEAR));
        came_with_one || self.installed.is_some_and(|installed| installed.0.abs_diff(changed) <= NEAR)
    }

    /// Why a file that everybody here can reach stays or is asked about: it was changed since the install, and is a
    /// document or nothing that programs are known to make. Among data, `is_data`, a document also stays if it is from
    /// before the last install, or the time of the install is not known; outside of data it is asked about then. A file
    /// that a package, a footprint or a log names, `is_named`, was brought by setup, unless it was changed since.
    pub fn why_later(
        &self,
        scene: &Scene<'_>,
        file: NodeId,
        top: NodeId,
        is_data: bool,
        is_named: bool,
    ) -> Option<(Decision, String)> {
        let name = scene.survey.files.name(file).to_lowercase();
        let extension = name.rsplit_once('.').map(|(_, extension)| extension).unwrap_or_default();
        let among = |list: &[String]| list.iter().any(|one| one == extension);
        let is_document = among(&TABLE.document) || TABLE.profile.contains(&name);
        if is_made_again(scene, file, top) {
            return None;
        }
        let is_programs = among(&TABLE.program) || among(&TABLE.settings) || among(&TABLE.licence);
        let nothing_tells = "nothing tells whether somebody here made it or the program";
        let later = self.is_later(scene, file);
        if later != Some(true) && is_named {
            return None;
        }
        // Setup may have run again since a person made it.
        let is_of_before = is_data && !self.is_brought(scene, file);
        match (later, is_document) {
            (Some(true), true) => Some((Decision::Keep, "a document that was changed after the install".to_owned())),
            (Some(true), false) if !is_programs => {
                Some((Decision::Ask, format!("it was changed after the install, and {nothing_tells}")))
            }
            (Some(false), true) if is_of_before => Some((
                Decision::Keep,
                "a document that is older than the last install and did not come with it".to_owned(),
            )),
            (Some(false), false) if is_of_before && !is_programs => Some((Decision::Ask, nothing_tells.to_owned())),
            (None, true) if is_data => {
                Some((Decision::Keep, "a document, and the time of the install is not known".to_owned()))
            }
            (None, true) => Some((Decision::Ask, format!("a document, and {nothing_tells}"))),
            (None, false) if is_data && !is_programs => Some((Decision::Ask, nothing_tells.to_owned())),
            _ => None,
        }
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

/// Times of the subject's programs, in order.
fn programs(scene: &Scene<'_>, owns_program: &dyn Fn(&str) -> bool) -> Vec<FileTime> {
    let files = &scene.survey.files;
    let is_program = |name: &str| {
        let lower = name.to_lowercase();
        [".exe", ".dll", ".ocx", ".sys"].iter().any(|end| lower.ends_with(end))
    };
    let all = files.all().filter(|at| files.data(*at).kind == EntryKind::File && is_program(files.name(*at)));
    let own = all.filter(|at| owns_program(&files.path(*at)));
    let mut times: Vec<FileTime> = own.map(|at| files.data(at).modified).collect();
    times.sort_by_key(|time| time.0);
    times
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
