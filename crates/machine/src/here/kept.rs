//! The loaded registry as it was before the first change: one compressed JSON document for each hive, with
//! the same trees that a vault's records hold.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::fs::File;
use std::io::{self, BufReader};
use std::path::{Path, PathBuf};

use flate2::Compression;
use flate2::bufread::MultiGzDecoder;
use flate2::write::GzEncoder;
use stubble_core::model::KeyTree;
use stubble_core::model::text::fold;

use super::Here;
use super::registry::{read_tree, root_of};
use crate::disk::{HiveFile, kept_name};
use crate::{MachineError, durable};

const LEVEL: Compression = Compression::new(1);

impl Here {
    /// Keeps every loaded hive in a folder, once: nothing later overwrites it. One that is not loaded is not
    /// kept: no uninstaller reaches it, and what is taken of it is in its step's record.
    pub(super) fn keep_trees(&self, into: &Path) -> Result<(), MachineError> {
        for hive in self.disk.hive_files() {
            let to = file(into, &hive.mount);
            if to.exists() {
                continue;
            }
            let Some(root) = root_of(&hive.mount)? else { continue };
            let tree = read_tree(&root, &hive.mount, 0)?;
            let keep = || -> io::Result<()> {
                let mut packed = GzEncoder::new(Vec::new(), LEVEL);
                serde_json::to_writer(&mut packed, &tree)?;
                durable::make_folders(into)?;
                durable::replace(&to, &packed.finish()?)
            };
            keep().map_err(MachineError::io(hive.mount))?;
        }
        Ok(())
    }

    /// Keys as they were when the registry was kept in that folder.
    pub(super) fn kept_trees(&self, kept: &Path, keys: &[String]) -> Result<Vec<KeyTree>, MachineError> {
        let mut open: BTreeMap<String, KeyTree> = BTreeMap::new();
        let mut found = Vec::new();
        for key in keys {
            let absent = || MachineError::Absent(key.clone());
            let HiveFile { mount, .. } = self.disk.hive_of(key).ok_or_else(absent)?;
            let tree = match open.entry(mount.clone()) {
                Entry::Occupied(known) => known.into_mut(),
                Entry::Vacant(new) => new.insert(unpacked(&file(kept, &mount)).map_err(MachineError::io(key))?),
            };
            let parts = key[mount.len()..].split('\\').filter(|part| !part.is_empty());
            let at = parts.into_iter().try_fold(&*tree, |at: &KeyTree, part| {
                let part = fold(part);
                at.keys.iter().find(|child| fold(&child.name) == part)
            });
            found.push(at.cloned().ok_or_else(absent)?);
        }
        Ok(found)
    }
}

fn file(folder: &Path, mount: &str) -> PathBuf {
    folder.join(format!("{}.json.gz", kept_name(mount)))
}

fn unpacked(file: &Path) -> io::Result<KeyTree> {
    let mut reader =
        serde_json::Deserializer::from_reader(BufReader::new(MultiGzDecoder::new(BufReader::new(File::open(file)?))));
    // Keys nest deeper than its usual limit; what is read here is our own, and no deeper than a registry is.
    reader.disable_recursion_limit();
    serde::Deserialize::deserialize(&mut reader).map_err(io::Error::from)
}
