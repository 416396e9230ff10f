//! Reading the few files that are read for what they say.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};

use rayon::prelude::*;
use stubble_core::content::inf::{self, Inf};
use stubble_core::content::{Content, InfFile, Told, program, signer, task_file};
use stubble_core::packages::{Package, patch_target};
use stubble_core::survey::{Entry, EntryKind, Gap, NodeId, Tree};
use stubble_core::units::drivers::is_published_name;

use super::Disk;
use super::hives::is_plain;
use crate::{MachineError, Observe};

/// What is read of a file.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Wanted {
    /// The definition of a task.
    Task,
    /// A program's version.
    Version,
    /// A package's properties.
    Package,
    /// What a patch is for.
    Patch,
    /// Who made a driver package.
    Inf,
}

/// The definition of a task is small; a larger file is none.
const LARGEST_TASK: u64 = 1024 * 1024;
/// The largest INF that is read.
const LARGEST_INF: u64 = 4 * 1024 * 1024;

impl Disk {
    /// What scheduled tasks, drivers, programs and the package installer's own packages say of
    /// themselves. Other programs in Windows' folder are
    /// passed over: they are nobody's but Windows'.
    pub(super) fn contents(&self, files: &Tree<Entry>, gaps: &mut Vec<Gap>) -> Vec<Told> {
        let mut wanted: Vec<(NodeId, Wanted)> = Vec::new();
        let library = files.find(&format!("{}\\System32\\Tasks", self.windows));
        wanted.extend(library.into_iter().flat_map(|top| files.below(top)).map(|file| (file, Wanted::Task)));
        let windows = files.find(&self.windows);
        let drivers = files.find(&format!("{}\\System32\\drivers", self.windows));
        let drivers = drivers.into_iter().flat_map(|top| files.children(top).collect::<Vec<_>>());
        wanted.extend(
            drivers.filter(|at| files.name(*at).to_lowercase().ends_with(".sys")).map(|file| (file, Wanted::Version)),
        );
        let infs = files.find(&format!("{}\\INF", self.windows));
        let infs = infs.into_iter().flat_map(|top| files.children(top).collect::<Vec<_>>());
        wanted.extend(infs.filter(|at| is_published_name(files.name(*at))).map(|file| (file, Wanted::Inf)));
        let ends_with = |at: NodeId, wanted: &str| {
            let name = files.name(at);
            name.len() > 4 && name.get(name.len() - 4..).is_some_and(|end| end.eq_ignore_ascii_case(wanted))
        };
        // Where a driver package was installed from.
        let sources = files.all().filter(|at| ends_with(*at, ".inf") && !is_below(files, *at, windows));
        wanted.extend(sources.map(|file| (file, Wanted::Inf)));
        let programs = files.all().filter(|at| ends_with(*at, ".exe"));
        wanted.extend(programs.filter(|at| !is_below(files, *at, windows)).map(|file| (file, Wanted::Version)));
        let kept = files.find(&format!("{}\\Installer", self.windows));
        let kept = kept.into_iter().flat_map(|top| files.children(top).collect::<Vec<_>>());
        wanted.extend(kept.filter_map(|at| match files.name(at).to_lowercase().rsplit_once('.')?.1 {
            "msi" => Some((at, Wanted::Package)),
            "msp" => Some((at, Wanted::Patch)),
            _ => None,
        }));
        wanted.retain(|(file, _)| files.data(*file).kind == EntryKind::File);
        let read: Vec<Result<Option<Told>, Gap>> = wanted
            .into_par_iter()
            .map(|(file, wanted)| {
                let path = files.path(file);
                let content = match wanted {
                    Wanted::Task if files.data(file).size > LARGEST_TASK => Ok(None),
                    Wanted::Task => {
                        self.read_file(&path, LARGEST_TASK).map(|bytes| task_file::parse(&bytes).map(Content::Task))
                    }
                    Wanted::Version => self.version_of(&path).map(|version| version.map(Content::Program)),
                    Wanted::Package => {
                        let file = self.plain_file(&path);
                        file.map(|file| file.and_then(Package::properties).map(Content::Package))
                    }
                    Wanted::Inf if files.data(file).size > LARGEST_INF => Ok(None),
                    Wanted::Inf => self.read_file(&path, LARGEST_INF).map(|bytes| {
                        let Inf { provider, files, .. } = inf::parse(files.name(file), &bytes)?;
                        let digest = blake3::hash(&bytes).to_hex().to_string();
                        Some(Content::Inf(InfFile { provider, files: files.into_iter().collect(), digest }))
                    }),
                    Wanted::Patch => {
                        let file = self.plain_file(&path);
                        file.map(|file| file.and_then(patch_target).map(Content::Patch))
                    }
                };
                let told = content.map(|content| content.map(|content| Told { file, content }));
                told.map_err(|error| Gap { what: path, why: error.to_string() })
            })
            .collect();
        let mut found = Vec::new();
        for one in read {
            match one {
                Ok(told) => found.extend(told),
                Err(gap) => gaps.push(gap),
            }
        }
        found
    }

    /// An open file; none where it is no ordinary one.
    fn plain_file(&self, path: &str) -> Result<Option<File>, MachineError> {
        let at = self.locate(path)?.ok_or_else(|| MachineError::Absent(path.to_owned()))?;
        if !is_plain(&at) {
            return Ok(None);
        }
        File::open(&at).map(Some).map_err(MachineError::io(path))
    }

    fn version_of(&self, path: &str) -> Result<Option<program::Version>, MachineError> {
        let Some(file) = self.plain_file(path)? else { return Ok(None) };
        let read = |offset: u64, len: usize| {
            let mut file = &file;
            let mut bytes = Vec::with_capacity(len);
            file.seek(SeekFrom::Start(offset)).ok()?;
            file.take(len as u64).read_to_end(&mut bytes).ok()?;
            Some(bytes)
        };
        let signer = signer::parse(&read);
        let told = program::parse(&read);
        Ok(match (told, signer) {
            (told, None) => told,
            (told, Some(signer)) => Some(program::Version { signer, ..told.unwrap_or_default() }),
        })
    }
}

fn is_below(files: &Tree<Entry>, at: NodeId, top: Option<NodeId>) -> bool {
    let Some(top) = top else { return false };
    let mut at = at;
    while at != files.root() {
        if at == top {
            return true;
        }
        at = files.parent(at);
    }
    false
}
