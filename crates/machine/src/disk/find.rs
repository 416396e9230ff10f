//! Recognising Windows installations on a mounted disk.

use std::fs;
use std::path::{Path, PathBuf};

use super::files::named;
use crate::MachineError;

/// A Windows installation on a disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Installation {
    /// The folder that is its system drive.
    pub root: PathBuf,
    /// The name of the Windows folder in it.
    pub windows: String,
}

impl Installation {
    /// The Windows folder.
    pub fn folder(&self) -> PathBuf {
        self.root.join(&self.windows)
    }
}

/// The one installation that is meant: the Windows folder that was named, the only one at the top
/// of the disk, or the only one at all.
pub(super) fn one(folder: &Path) -> Result<Installation, MachineError> {
    if is_windows(folder)
        && let (Some(root), Some(name)) = (folder.parent(), folder.file_name().and_then(|name| name.to_str()))
    {
        return Ok(Installation { root: root.to_owned(), windows: name.to_owned() });
    }
    let found = installations(folder)?;
    let at_top: Vec<&Installation> = found.iter().filter(|one| one.root == folder).collect();
    match at_top.as_slice() {
        [one] => Ok((*one).clone()),
        [] if found.len() == 1 => Ok(found[0].clone()),
        [] if found.is_empty() => Err(MachineError::NotAMachine {
            root: folder.to_owned(),
            kind: "Windows disk",
            missing: "a folder with System32\\config\\SOFTWARE and SYSTEM".to_owned(),
        }),
        _ => Err(MachineError::SeveralInstallations {
            root: folder.to_owned(),
            found: found.iter().map(Installation::folder).collect(),
        }),
    }
}

/// All installations on a disk: at its top, and in folders such as the one where an upgrade keeps
/// the old system.
pub fn installations(folder: &Path) -> Result<Vec<Installation>, MachineError> {
    let mut found = Vec::new();
    for (name, path) in folders(folder)? {
        if is_windows(&path) {
            found.push(Installation { root: folder.to_owned(), windows: name });
        } else if let Some(inner) = named(&path, "Windows")
            && is_windows(&path.join(&inner))
        {
            found.push(Installation { root: path, windows: inner.to_string_lossy().into_owned() });
        }
    }
    found.sort_by(|a, b| (&a.root, &a.windows).cmp(&(&b.root, &b.windows)));
    Ok(found)
}

fn folders(folder: &Path) -> Result<Vec<(String, PathBuf)>, MachineError> {
    let listed = fs::read_dir(folder).map_err(MachineError::io(folder.display().to_string()))?;
    let folders = listed.filter_map(Result::ok).filter(|item| item.file_type().is_ok_and(|kind| kind.is_dir()));
    Ok(folders.filter_map(|item| Some((item.file_name().into_string().ok()?, item.path()))).collect())
}

/// Whether a folder holds the two hives without which there is no Windows.
fn is_windows(folder: &Path) -> bool {
    let config = ["System32", "config"].iter().try_fold(folder.to_owned(), |at, part| Some(at.join(named(&at, part)?)));
    config.is_some_and(|config| ["SOFTWARE", "SYSTEM"].iter().all(|hive| named(&config, hive).is_some()))
}
