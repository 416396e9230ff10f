//! Where installers lie.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::path;
use crate::model::text::fold;
use crate::survey::{EntryKind, NodeId, Survey};
use crate::trace::Scene;

/// So many files are looked into; more are told.
const MOST: usize = 400;
/// Nothing smaller is an installer.
const SMALLEST: u64 = 512;

/// What a download that is not finished is called.
pub(super) const UNFINISHED: [&str; 6] = ["CRDOWNLOAD", "PART", "PARTIAL", "DOWNLOAD", "OPDOWNLOAD", "FILEPART"];

/// What kind of place an installer was found in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FoundIn {
    /// A folder that somebody named.
    Named,
    /// A user's downloads.
    Downloads,
    /// A user's desktop.
    Desktop,
    /// A folder for temporary files.
    Temp,
    /// What setups keep for repairs: the package installer's own copies, and those of setup bundles.
    Cache,
    /// A data folder of the publisher, where downloaders keep what they fetched.
    PublishersData,
}

impl FoundIn {
    /// The words that people read, behind "in".
    pub fn words(self) -> &'static str {
        match self {
            Self::Named => "the folder that was named",
            Self::Downloads => "downloads",
            Self::Desktop => "desktop",
            Self::Temp => "temp folder",
            Self::Cache => "a cache for repairs",
            Self::PublishersData => "the publisher's own data folder",
        }
    }
}

/// Files that may be installers.
#[derive(Clone, Debug, Default)]
pub struct Found {
    /// Their paths, with what the place is.
    pub files: Vec<(String, FoundIn)>,
    /// How many more there were than are looked into.
    pub more: usize,
}

/// Files of a folder that somebody named, with their sizes in bytes. `None` where no survey shows the folder.
pub fn named_files(survey: &Survey, folder: &str) -> Option<Vec<(String, u64)>> {
    Some(files_below(survey, survey.files.find(folder)?).collect())
}

fn files_below(survey: &Survey, folder: NodeId) -> impl Iterator<Item = (String, u64)> {
    let is_file = |at: &NodeId| survey.files.data(*at).kind == EntryKind::File;
    let below = survey.files.below(folder).into_iter().filter(is_file);
    below.map(|at| (survey.files.path(at), survey.files.data(at).size))
}

/// Looks through what somebody named, downloads, desktops, temp folders, package caches, and the publisher's
/// own data folders, where downloaders keep what they fetched under any name.
pub fn places(scene: &Scene<'_>, named: &[(String, u64)]) -> Found {
    let survey = scene.survey;
    let facts = &survey.facts;
    let mut found = Found::default();
    for (path, size) in named {
        offer(path.clone(), *size, FoundIn::Named, &any_name, &mut found);
    }
    for user in &facts.users {
        let downloads = user.folder("{374DE290-123F-4565-9164-39C4925E467B}");
        take(survey, &downloads, FoundIn::Downloads, &is_named_so, &mut found);
        take(survey, &path::join(&user.profile, "Desktop"), FoundIn::Desktop, &is_named_so, &mut found);
        take(survey, &path::join(&user.local(), "Temp"), FoundIn::Temp, &is_named_so, &mut found);
    }
    take(survey, &path::join(&facts.windows, "Temp"), FoundIn::Temp, &is_named_so, &mut found);
    take(survey, &path::join(&facts.program_data, "Package Cache"), FoundIn::Cache, &is_named_so, &mut found);
    take(survey, &path::join(&facts.windows, "Installer"), FoundIn::Cache, &is_named_so, &mut found);
    let data = facts.users.iter().flat_map(|user| [user.local(), user.roaming()]);
    for root in std::iter::once(facts.program_data.clone()).chain(data) {
        let Some(at) = survey.files.find(&root) else { continue };
        for child in survey.files.children(at) {
            let name = survey.files.name(child);
            if scene.is_publisher(name) || scene.fit(name).is_some() {
                let folder = survey.files.path(child);
                take(survey, &folder, FoundIn::PublishersData, &any_name, &mut found);
            }
        }
    }
    found
}

fn take(survey: &Survey, folder: &str, what: FoundIn, fits: &dyn Fn(&str) -> bool, found: &mut Found) {
    let Some(at) = survey.files.find(folder) else { return };
    for (path, size) in files_below(survey, at) {
        offer(path, size, what, fits, found);
    }
}

fn offer(path: String, size: u64, what: FoundIn, fits: &dyn Fn(&str) -> bool, found: &mut Found) {
    let is_known = |path: &str| found.files.iter().any(|(known, _)| fold(known) == fold(path));
    if size < SMALLEST || !fits(path::leaf(&path)) || is_known(&path) {
        return;
    }
    match found.files.len() < MOST {
        true => found.files.push((path, what)),
        false => found.more += 1,
    }
}

/// By its name an installer, or a download that was to become one.
fn is_named_so(name: &str) -> bool {
    let folded = fold(name);
    let Some((stem, extension)) = folded.rsplit_once('.') else { return false };
    ["MSI", "EXE"].contains(&extension)
        || UNFINISHED.contains(&extension) && (stem.ends_with(".MSI") || stem.ends_with(".EXE"))
}

/// Whatever it is called, but for what it surely is not.
fn any_name(name: &str) -> bool {
    let folded = fold(name);
    let extension = folded.rsplit_once('.').map_or("", |(_, extension)| extension);
    !["DLL", "SYS", "TXT", "LOG", "INI", "XML", "JSON", "PNG", "JPG", "ICO", "HTM", "HTML", "PDF", "SHA256"]
        .contains(&extension)
}
