//! The loaded registry: reading it into a survey, and edits.

use std::collections::BTreeMap;

use stubble_core::model::path::parent;
use stubble_core::model::{FileTime, KeyTree, RegValue};
use stubble_core::survey::{Data, Gap, KeyId, Name, RegistryBuilder};

use super::Here;
use super::api::key::{CHANGE, DELETE, Key, READ};
use crate::disk::{Edit, HiveFile, PartialKeys, seal};
use crate::edits::Edits;
use crate::{Above, MachineError};

/// Where the machine's part of the registry stands for the native interface.
pub(super) const MACHINE: &str = "\\Registry\\Machine";
const USERS: &str = "\\Registry\\User";
/// Keys deeper than this are no registry that Windows makes. Source: Microsoft's public documentation of
/// the registry's element size limits.
const DEEPEST: usize = 512;

/// The native path of the place where a hive stands.
fn native(mount: &str) -> String {
    match mount.split_once('\\') {
        Some(("HKLM", rest)) => format!("{MACHINE}\\{rest}"),
        Some((_, rest)) => format!("{USERS}\\{rest}"),
        None => mount.to_owned(),
    }
}

impl Here {
    /// Adds the whole registry to a survey: what is loaded, and the hives of users who are not signed in.
    pub(super) fn read_registry(&self, builder: &mut RegistryBuilder, gaps: &mut Vec<Gap>) -> Result<(), MachineError> {
        let mut tops: BTreeMap<String, KeyId> = BTreeMap::new();
        for hive in self.disk.hive_files() {
            let (top, name) = hive.mount.split_once('\\').unwrap_or((&hive.mount, ""));
            let mut above = |builder: &mut RegistryBuilder| {
                *tops.entry(top.to_owned()).or_insert_with(|| builder.add_key(0, Name::Copied(top), FileTime(0), 0))
            };
            match root_of(&hive.mount) {
                Ok(Some(root)) => {
                    let above = above(builder);
                    read_into(&root, name, &hive.mount, above, builder, gaps, 0);
                }
                Ok(None) => self.disk.read_hive_into(&hive, &mut above, builder, gaps)?,
                Err(error) if !hive.needed => gaps.push(Gap { what: hive.mount.clone(), why: error.to_string() }),
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// Adds one key with what lies below it and the names above it.
    pub(super) fn read_key_into(&self, key: &str, partial: &mut PartialKeys) -> Result<(), MachineError> {
        let Some(HiveFile { mount, .. }) = self.disk.hive_of(key) else { return Ok(()) };
        if root_of(&mount)?.is_none() {
            return self.disk.read_key_into(key, partial);
        }
        let Some(found) = open(key, &mount, READ)? else { return Ok(()) };
        let tree = read_tree(&found, key, 0)?;
        partial.insert(key, tree, &|part| {
            let above = open(part, &mount, READ).ok()??;
            above.about().ok().map(|about| about.last_written)
        });
        Ok(())
    }

    /// Edits of the registry, loaded or not.
    pub(super) fn edit(&self) -> Live<'_> {
        Live { here: self, files: self.files_edit(), touched: Vec::new() }
    }
}

pub(super) fn root_of(mount: &str) -> Result<Option<Key>, MachineError> {
    Key::open(&native(mount), READ).map_err(MachineError::io(mount))
}

/// Opens a key part by part. Fails where a part above the last is a link.
fn open(key: &str, mount: &str, rights: u32) -> Result<Option<Key>, MachineError> {
    let rest = key.get(mount.len()..).unwrap_or_default();
    let parts: Vec<&str> = rest.split('\\').filter(|part| !part.is_empty()).collect();
    let first = if parts.is_empty() { rights } else { READ };
    let Some(mut at) = Key::open(&native(mount), first).map_err(MachineError::io(key))? else { return Ok(None) };
    for (number, part) in parts.iter().enumerate() {
        if number > 0 && at.is_link().map_err(MachineError::io(key))? {
            let why = "a part of it is a link, and links are not followed".to_owned();
            return Err(MachineError::Refused { path: key.to_owned(), why });
        }
        let rights = if number + 1 == parts.len() { rights } else { READ };
        match at.child(part, rights).map_err(MachineError::io(key))? {
            Some(next) => at = next,
            None => return Ok(None),
        }
    }
    Ok(Some(at))
}

/// Adds a key and what lies below it; what cannot be read is a gap.
fn read_into(
    key: &Key,
    name: &str,
    shown: &str,
    above: KeyId,
    builder: &mut RegistryBuilder,
    gaps: &mut Vec<Gap>,
    depth: usize,
) {
    let mut tell = |error: std::io::Error| gaps.push(Gap { what: shown.to_owned(), why: error.to_string() });
    let about = match key.about() {
        Ok(about) => about,
        Err(error) => return tell(error),
    };
    let security = key.security().map_err(&mut tell).unwrap_or_default();
    let seal = seal(about.class.as_deref(), &security);
    let at = builder.add_key(above, Name::Copied(name), about.last_written, seal);
    for value in key.values_of(about.values).map_err(&mut tell).unwrap_or_default() {
        builder.add_value(Name::Copied(&value.name), value.kind, Data::Copied(&value.data));
    }
    if depth == DEEPEST {
        gaps.push(Gap { what: shown.to_owned(), why: "it is too deep".to_owned() });
        return;
    }
    let names = key.names_of(about.keys).map_err(&mut tell).unwrap_or_default();
    for name in names {
        let shown = format!("{shown}\\{name}");
        match key.child(&name, READ) {
            Ok(Some(child)) => read_into(&child, &name, &shown, at, builder, gaps, depth + 1),
            // It went while we read.
            Ok(None) => {}
            Err(error) => gaps.push(Gap { what: shown, why: error.to_string() }),
        }
    }
}

pub(super) fn read_tree(key: &Key, shown: &str, depth: usize) -> Result<KeyTree, MachineError> {
    if depth > DEEPEST {
        return Err(MachineError::Refused { path: shown.to_owned(), why: "it is too deep".to_owned() });
    }
    let read = || -> std::io::Result<KeyTree> {
        let about = key.about()?;
        Ok(KeyTree {
            name: key.name()?,
            last_written: about.last_written,
            class: about.class,
            security: key.security()?,
            values: key.values()?,
            keys: Vec::new(),
        })
    };
    let mut tree = read().map_err(MachineError::io(shown))?;
    for name in key.names().map_err(MachineError::io(shown))? {
        let shown = format!("{shown}\\{name}");
        if let Some(child) = key.child(&name, READ).map_err(MachineError::io(shown.as_str()))? {
            tree.keys.push(read_tree(&child, &shown, depth + 1)?);
        }
    }
    Ok(tree)
}

/// Opens a key and all below it for deletion, the deepest last.
fn open_all(key: Key, shown: &str, all: &mut Vec<Key>) -> Result<(), MachineError> {
    let names = key.names().map_err(MachineError::io(shown))?;
    let children: Result<Vec<(Key, String)>, MachineError> = names
        .into_iter()
        .filter_map(|name| {
            let shown = format!("{shown}\\{name}");
            let child = key.child(&name, DELETE).map_err(MachineError::io(shown.as_str())).transpose()?;
            Some(child.map(|child| (child, shown)))
        })
        .collect();
    all.push(key);
    for (child, shown) in children? {
        open_all(child, &shown, all)?;
    }
    Ok(())
}

/// Writes what a tree says into a key, and takes away what it does not say.
fn write_tree(key: &Key, tree: &KeyTree) -> std::io::Result<()> {
    for value in key.values()? {
        if !tree.values.iter().any(|wanted| wanted.name == value.name) {
            key.delete_value(&value.name)?;
        }
    }
    for value in &tree.values {
        key.set(value)?;
    }
    for child in &tree.keys {
        write_tree(&key.make(&child.name, child.class.as_deref())?, child)?;
    }
    if !tree.security.is_empty() && key.security()? != tree.security {
        key.set_security(&tree.security)?;
    }
    key.set_time(tree.last_written)
}

/// Edits of the running system's registry. Each is there at once; commit makes it durable.
#[must_use]
pub(super) struct Live<'h> {
    here: &'h Here,
    files: Edit<'h>,
    touched: Vec<String>,
}

impl Live<'_> {
    /// The hive's place where it is loaded; `None` where it has to be edited in its file.
    fn loaded(&self, key: &str) -> Result<Option<String>, MachineError> {
        let absent = || MachineError::Absent(key.to_owned());
        let HiveFile { mount, .. } = self.here.disk.hive_of(key).ok_or_else(absent)?;
        Ok(root_of(&mount)?.map(|_| mount))
    }

    fn existing(&self, key: &str, mount: &str, rights: u32) -> Result<Key, MachineError> {
        open(key, mount, rights)?.ok_or_else(|| MachineError::Absent(key.to_owned()))
    }

    fn touch(&mut self, mount: &str) {
        if !self.touched.iter().any(|known| known == mount) {
            self.touched.push(mount.to_owned());
        }
    }

    /// Opens a key for changes, and makes it with those above it where it is not there.
    fn made(&mut self, key: &str, mount: &str) -> Result<Key, MachineError> {
        self.touch(mount);
        if let Some(found) = open(key, mount, CHANGE)? {
            return Ok(found);
        }
        let absent = || MachineError::Absent(key.to_owned());
        let above = parent(key).filter(|above| above.len() >= mount.len()).ok_or_else(absent)?;
        let above_key = self.made(above, mount)?;
        above_key.make(&key[above.len() + 1..], None).map_err(MachineError::io(key))
    }
}

fn time_of(key: &Key, shown: &str) -> Result<FileTime, MachineError> {
    key.about().map(|about| about.last_written).map_err(MachineError::io(shown))
}

impl Edits for Live<'_> {
    fn has_key(&self, key: &str) -> Result<bool, MachineError> {
        match self.loaded(key)? {
            Some(mount) => Ok(open(key, &mount, READ)?.is_some()),
            None => self.files.has_key(key),
        }
    }

    fn read(&self, key: &str) -> Result<KeyTree, MachineError> {
        match self.loaded(key)? {
            Some(mount) => read_tree(&self.existing(key, &mount, READ)?, key, 0),
            None => self.files.read(key),
        }
    }

    fn read_value(&self, key: &str, name: &str) -> Result<(RegValue, usize), MachineError> {
        let Some(mount) = self.loaded(key)? else { return self.files.read_value(key, name) };
        let values = self.existing(key, &mount, READ)?.values().map_err(MachineError::io(key))?;
        let wanted = stubble_core::model::text::fold(name);
        let is_it = |value: &RegValue| stubble_core::model::text::fold(&value.name) == wanted;
        let position = values.iter().position(is_it).ok_or_else(|| MachineError::Absent(key.to_owned()))?;
        Ok((values[position].clone(), position))
    }

    fn security_of(&self, key: &str) -> Result<Vec<u8>, MachineError> {
        match self.loaded(key)? {
            Some(mount) => self.existing(key, &mount, READ)?.security().map_err(MachineError::io(key)),
            None => self.files.security_of(key),
        }
    }

    fn time_of(&self, key: &str) -> Result<FileTime, MachineError> {
        match self.loaded(key)? {
            Some(mount) => time_of(&self.existing(key, &mount, READ)?, key),
            None => self.files.time_of(key),
        }
    }

    /// The system may give the key the time of the change; it keeps its own.
    fn set_security(&mut self, key: &str, descriptor: &[u8]) -> Result<(), MachineError> {
        let Some(mount) = self.loaded(key)? else { return self.files.set_security(key, descriptor) };
        let at = self.existing(key, &mount, CHANGE)?;
        let before = time_of(&at, key)?;
        self.touch(&mount);
        at.set_security(descriptor).and_then(|()| at.set_time(before)).map_err(MachineError::io(key))
    }

    fn put(&mut self, key: &str, value: &RegValue) -> Result<Above, MachineError> {
        let Some(mount) = self.loaded(key)? else { return self.files.put(key, value) };
        let at = self.made(key, &mount)?;
        let before = time_of(&at, key)?;
        at.set(value).map_err(MachineError::io(key))?;
        Ok(Above { before, after: time_of(&at, key)? })
    }

    /// Every key is opened before the first is deleted, so that a right that is missing costs nothing.
    fn delete(&mut self, key: &str) -> Result<Above, MachineError> {
        let Some(mount) = self.loaded(key)? else { return self.files.delete(key) };
        let absent = || MachineError::Absent(key.to_owned());
        let above = parent(key).filter(|above| above.len() >= mount.len()).ok_or_else(absent)?;
        let mut all = Vec::new();
        open_all(self.existing(key, &mount, DELETE)?, key, &mut all)?;
        let above_key = self.existing(above, &mount, READ)?;
        let before = time_of(&above_key, above)?;
        self.touch(&mount);
        for one in all.into_iter().rev() {
            one.delete().map_err(MachineError::io(key))?;
        }
        Ok(Above { before, after: time_of(&above_key, above)? })
    }

    fn delete_value(&mut self, key: &str, name: &str) -> Result<Above, MachineError> {
        let Some(mount) = self.loaded(key)? else { return self.files.delete_value(key, name) };
        let at = self.existing(key, &mount, CHANGE)?;
        let before = time_of(&at, key)?;
        self.touch(&mount);
        at.delete_value(name).map_err(MachineError::io(format!("{key} : {name}")))?;
        Ok(Above { before, after: time_of(&at, key)? })
    }

    fn restore(&mut self, key: &str, tree: &KeyTree, above: Above) -> Result<(), MachineError> {
        let Some(mount) = self.loaded(key)? else { return self.files.restore(key, tree, above) };
        let absent = || MachineError::Absent(key.to_owned());
        let up = parent(key).filter(|up| up.len() >= mount.len()).ok_or_else(absent)?;
        let up_key = self.made(up, &mount)?;
        let found = time_of(&up_key, up)?;
        let made = up_key.make(&tree.name, tree.class.as_deref()).map_err(MachineError::io(key))?;
        write_tree(&made, tree).map_err(MachineError::io(key))?;
        // Nothing is said to be back before it was looked at.
        if !is_same(&read_tree(&made, key, 0)?, tree) {
            let why = "the system did not take it as it was".to_owned();
            return Err(MachineError::Refused { path: key.to_owned(), why });
        }
        let time = if found == above.after { above.before } else { found };
        up_key.set_time(time).map_err(MachineError::io(up))
    }

    /// The system puts a new value behind the others: its old position is not restored.
    fn restore_value(
        &mut self,
        key: &str,
        value: &RegValue,
        position: usize,
        above: Above,
    ) -> Result<(), MachineError> {
        let Some(mount) = self.loaded(key)? else { return self.files.restore_value(key, value, position, above) };
        let at = self.made(key, &mount)?;
        let found = time_of(&at, key)?;
        at.set(value).map_err(MachineError::io(key))?;
        let time = if found == above.after { above.before } else { found };
        at.set_time(time).map_err(MachineError::io(key))
    }

    fn settle_time(&mut self, key: &str, above: Above) -> Result<(), MachineError> {
        let Some(mount) = self.loaded(key)? else { return self.files.settle_time(key, above) };
        self.existing(key, &mount, CHANGE)?.set_time(above.before).map_err(MachineError::io(key))
    }

    fn commit(self) -> Result<(), MachineError> {
        for mount in &self.touched {
            if let Some(root) = root_of(mount)? {
                root.flush().map_err(MachineError::io(mount.as_str()))?;
            }
        }
        self.files.commit()
    }
}

/// The same but for times and the order of values and keys, which are the system's own.
fn is_same(found: &KeyTree, wanted: &KeyTree) -> bool {
    let by_name = |a: &&RegValue, b: &&RegValue| a.name.cmp(&b.name);
    let values = |tree: &KeyTree| -> Vec<RegValue> {
        let mut values: Vec<&RegValue> = tree.values.iter().collect();
        values.sort_by(by_name);
        values.into_iter().cloned().collect()
    };
    let is_child = |child: &KeyTree| found.keys.iter().any(|other| other.name == child.name && is_same(other, child));
    (&found.name, &found.class) == (&wanted.name, &wanted.class)
        && found.security == wanted.security
        && values(found) == values(wanted)
        && found.keys.len() == wanted.keys.len()
        && wanted.keys.iter().all(is_child)
}
