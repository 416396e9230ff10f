//! Reading the disk into a survey.

use std::path::Path;

use rayon::prelude::*;
use stubble_core::model::{FileTime, Place, PlaceKind};
use stubble_core::survey::{
    Entry, EntryKind, Gap, RegistryBuilder, Running, Shortcut, Survey, Tree, TreeBuilder, state,
};

use super::files::Partial;
use super::folder::look_at;
use super::registry::PartialKeys;
use super::scan::Hidden;
use super::{Disk, attributes};
use crate::digest::{ROOM, digest_in};
use crate::edits::Edits;
use crate::elsewhere;
use crate::{MachineError, Observe, shortcut};

/// The top of a tree that holds one thing out of a vault.
const HELD: &str = "HELD";
/// A shortcut file is small; a larger one is none.
const LARGEST_SHORTCUT: u64 = 64 * 1024;

impl Observe for Disk {
    fn survey(&self) -> Result<Survey, MachineError> {
        self.survey_with(|builder, gaps| self.read_registry(builder, gaps))
    }

    fn survey_of(&self, places: &[Place]) -> Result<Survey, MachineError> {
        self.survey_of_with(places, |key, partial| self.read_key_into(key, partial))
    }

    fn read_file(&self, path: &str, most: u64) -> Result<Vec<u8>, MachineError> {
        let at = self.locate(path)?.ok_or_else(|| MachineError::Absent(path.to_owned()))?;
        elsewhere::content(&at, path, most)
    }

    fn access_lists(&self, places: &[Place]) -> Vec<Option<Vec<u8>>> {
        let one = |place: &Place| match place.kind {
            PlaceKind::Key => self.edit().security_of(&place.path).ok(),
            _ => attributes::access_list(&self.locate(&place.path).ok()??),
        };
        places.iter().map(one).collect()
    }

    /// On all cores: file beside file, and a large one by itself.
    fn digests(&self, paths: &[String]) -> Vec<Option<String>> {
        let one = |room: &mut Vec<u8>, path: &String| digest_in(&self.locate(path).ok()??, room).ok();
        paths.par_iter().map_init(|| vec![0; ROOM], one).collect()
    }
}

impl Disk {
    /// The whole disk, with a registry that somebody else reads.
    pub(crate) fn survey_with(
        &self,
        read_registry: impl FnOnce(&mut RegistryBuilder, &mut Vec<Gap>) -> Result<(), MachineError> + Send,
    ) -> Result<Survey, MachineError> {
        let (mut gaps, mut more) = (Vec::new(), Vec::new());
        let (mut files, mut registry) = (builder(), RegistryBuilder::default());
        let (read, keys) = rayon::join(
            || self.read_files(&mut files, &mut gaps).map(|()| files.finish()),
            || read_registry(&mut registry, &mut more).map(|()| registry.finish()),
        );
        let (files, registry) = (read?, keys?);
        gaps.extend(more);
        gaps.extend(self.missing_drives());
        let shortcuts = self.shortcuts(&files, &mut gaps);
        let contents = self.contents(&files, &mut gaps);
        let short_names = self.short_names(&files);
        let facts = self.facts().clone();
        Ok(Survey { facts, files, registry, running: Running::default(), shortcuts, contents, short_names, gaps })
    }

    /// Only these places, with keys that somebody else reads.
    pub(crate) fn survey_of_with(
        &self,
        places: &[Place],
        mut read_key: impl FnMut(&str, &mut PartialKeys) -> Result<(), MachineError>,
    ) -> Result<Survey, MachineError> {
        let (mut files, mut keys) = (Partial::default(), PartialKeys::default());
        for place in places {
            match place.kind {
                PlaceKind::File | PlaceKind::Folder | PlaceKind::Shortcut => self.read_path(&place.path, &mut files)?,
                PlaceKind::Key
                | PlaceKind::Value
                | PlaceKind::Startup
                | PlaceKind::FirewallRule
                | PlaceKind::NetworkLayer
                | PlaceKind::ListEntry
                | PlaceKind::SharedCount
                | PlaceKind::WindowsValue => read_key(&place.path, &mut keys)?,
                PlaceKind::Service => {
                    read_key(&format!("{}\\{}", self.facts().services_key(), place.path), &mut keys)?;
                }
                // Units are read by their parts.
                PlaceKind::Process
                | PlaceKind::Product
                | PlaceKind::UpgradeCode
                | PlaceKind::Driver
                | PlaceKind::Task
                | PlaceKind::StorePackage => {}
            }
        }
        let mut tree = builder();
        let mut gaps = Vec::new();
        files.into_builder(&mut tree, &mut gaps);
        let mut registry = RegistryBuilder::default();
        keys.into_builder(&mut registry);
        Ok(Survey {
            facts: self.facts().clone(),
            files: tree.finish(),
            registry: registry.finish(),
            running: Running::default(),
            shortcuts: Vec::new(),
            contents: Vec::new(),
            short_names: Vec::new(),
            gaps,
        })
    }

    /// The state of a file or folder that lies outside the machine, in a vault.
    pub(crate) fn state_held(&self, held: &Path) -> Result<Option<String>, MachineError> {
        let shown = held.display().to_string();
        let entry = match look_at(held) {
            Ok(entry) => entry,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(MachineError::io(shown)(error)),
        };
        let Some(name) = held.file_name().and_then(|name| name.to_str()) else { return Ok(None) };
        let (mut tree, mut gaps) = (builder(), Vec::new());
        let top = tree.add(0, HELD, Entry { kind: EntryKind::Folder, size: 0, modified: FileTime(0) });
        let at = tree.add(top, name, entry);
        if entry.kind == EntryKind::Folder {
            let at_top = format!("{HELD}\\{name}");
            self.scan(held, &at_top, &Hidden::new()).add_to(&mut tree, at, &mut gaps);
        }
        let survey = Survey {
            facts: self.facts().clone(),
            files: tree.finish(),
            registry: RegistryBuilder::default().finish(),
            running: Running::default(),
            shortcuts: Vec::new(),
            contents: Vec::new(),
            short_names: Vec::new(),
            gaps,
        };
        Ok(state::of(&survey, &Place::folder(format!("{HELD}\\{name}"))))
    }

    /// Where shortcuts lead. One that leads to no path has none; one that cannot be read is a gap.
    fn shortcuts(&self, files: &Tree<Entry>, gaps: &mut Vec<Gap>) -> Vec<Shortcut> {
        let is_shortcut = |name: &str| {
            let end = name.len().saturating_sub(4);
            name.get(end..).is_some_and(|end| end.eq_ignore_ascii_case(".lnk"))
        };
        let links = files.all().filter(|at| {
            let data = files.data(*at);
            data.kind == EntryKind::File && data.size <= LARGEST_SHORTCUT && is_shortcut(files.name(*at))
        });
        links
            .filter_map(|file| {
                let path = files.path(file);
                let content = match self.read_file(&path, LARGEST_SHORTCUT) {
                    Ok(content) => content,
                    Err(error) => {
                        gaps.push(Gap { what: path, why: error.to_string() });
                        return None;
                    }
                };
                Some(Shortcut { file, target: shortcut::target(&content)? })
            })
            .collect()
    }
}

fn builder() -> TreeBuilder<Entry> {
    TreeBuilder::new(Entry { kind: EntryKind::Folder, size: 0, modified: FileTime(0) })
}
