//! The hives of the disk as one registry.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;

use stubble_core::model::text::{fold, from_utf16, to_utf16};
use stubble_core::model::{FileTime, KeyTree, RegValue};
use stubble_core::survey::{Gap, KeyId, RegistryBuilder};
use stubble_hive::{Hive, HiveError, KeyAt};

use super::Disk;
use crate::{Above, MachineError};

impl Disk {
    /// Each hive's root in the registry, with the path of its file on the machine.
    pub(crate) fn hive_files(&self) -> Vec<(String, String)> {
        let config = "C:\\Windows\\System32\\config";
        let mut files = vec![
            ("HKLM\\SOFTWARE".to_owned(), format!("{config}\\SOFTWARE")),
            ("HKLM\\SYSTEM".to_owned(), format!("{config}\\SYSTEM")),
        ];
        for user in &self.facts.users {
            files.push((user.hive(), format!("{}\\NTUSER.DAT", user.profile)));
            let classes = format!("{}\\Microsoft\\Windows\\UsrClass.dat", user.local());
            files.push((format!("{}_Classes", user.hive()), classes));
        }
        files
    }

    /// Reads a hive from its file on the machine.
    pub(crate) fn load_hive(&self, path: &str) -> Result<Hive, MachineError> {
        let file = self.locate(path)?.ok_or_else(|| MachineError::Absent(path.to_owned()))?;
        let bytes = fs::read(file).map_err(MachineError::io(path))?;
        Hive::parse(&bytes).map_err(|source| MachineError::Hive { path: path.to_owned(), source })
    }

    /// Adds all hives to a survey. A user's hive that cannot be read is a gap; without the
    /// machine's own there is no survey.
    pub(super) fn read_registry(&self, builder: &mut RegistryBuilder, gaps: &mut Vec<Gap>) -> Result<(), MachineError> {
        let none = || std::iter::empty::<(&str, u32, &[u8])>();
        let mut tops: BTreeMap<String, KeyId> = BTreeMap::new();
        for (mount, path) in self.hive_files() {
            let (top, name) = mount.split_once('\\').unwrap_or((&mount, ""));
            let above = *tops.entry(top.to_owned()).or_insert_with(|| builder.add(0, top, FileTime(0), 0, none()));
            let read = self.load_hive(&path).and_then(|hive| {
                let wrap = |source| MachineError::Hive { path: path.clone(), source };
                add_key(&hive, hive.root(), name, above, 0, builder).map_err(wrap)
            });
            match read {
                Ok(()) => {}
                Err(error) if top == "HKU" => gaps.push(Gap { what: path, why: error.to_string() }),
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// Adds one key with what lies below it and the names above it.
    pub(super) fn read_key_into(&self, key: &str, partial: &mut PartialKeys) -> Result<(), MachineError> {
        let Some((mount, path)) = self.mount_of(key) else { return Ok(()) };
        let hive = self.load_hive(&path)?;
        let wrap = |source| MachineError::Hive { path: path.clone(), source };
        let Some(at) = find(&hive, &key[mount.len()..]).map_err(wrap)? else { return Ok(()) };
        let tree = read_tree(&hive, at, 0).map_err(wrap)?;
        partial.insert(key, tree, &|part| time_of(&hive, part.get(mount.len()..)?));
        Ok(())
    }

    /// The hive that holds a key: its root in the registry, and its file.
    fn mount_of(&self, key: &str) -> Option<(String, String)> {
        let inside = |mount: &str| stubble_core::model::path::is_inside_or_same(key, mount);
        self.hive_files().into_iter().find(|(mount, _)| inside(mount))
    }
}

/// Keys collected one by one, before they become one registry.
#[derive(Default)]
pub(super) struct PartialKeys {
    top: Vec<KeyTree>,
}

impl PartialKeys {
    /// Adds a key; `time` gives the time stamps of those above it, by their paths.
    fn insert(&mut self, path: &str, tree: KeyTree, time: &dyn Fn(&str) -> Option<FileTime>) {
        let mut level = &mut self.top;
        let parts: Vec<&str> = path.split('\\').collect();
        for (number, part) in parts.iter().enumerate() {
            let place = match level.iter().position(|key| fold(&key.name) == fold(part)) {
                Some(place) => place,
                None => {
                    level.push(KeyTree {
                        name: (*part).to_owned(),
                        last_written: time(&parts[..=number].join("\\")).unwrap_or_default(),
                        class: None,
                        security: Vec::new(),
                        values: Vec::new(),
                        keys: Vec::new(),
                    });
                    level.len() - 1
                }
            };
            if number + 1 == parts.len() {
                // A hive's own root key has a name of its own; it stands here under its mount point.
                level[place] = KeyTree { name: level[place].name.clone(), ..tree };
                return;
            }
            level = &mut level[place].keys;
        }
    }

    pub(super) fn into_builder(self, builder: &mut RegistryBuilder) {
        fn add(tree: KeyTree, above: KeyId, builder: &mut RegistryBuilder) {
            let seal = seal(tree.class.as_deref(), &tree.security);
            let values = tree.values.into_iter().map(|value| (value.name, value.kind, value.data));
            let at = builder.add(above, &tree.name, tree.last_written, seal, values);
            tree.keys.into_iter().for_each(|child| add(child, at, builder));
        }
        self.top.into_iter().for_each(|tree| add(tree, 0, builder));
    }
}

/// Hives opened for editing. Nothing is on the disk before [`commit`](Self::commit).
#[must_use]
pub(crate) struct Edit<'d> {
    disk: &'d Disk,
    now: FileTime,
    open: BTreeMap<String, Hive>,
}

impl<'d> Edit<'d> {
    /// Edits that happen at `now`.
    pub(crate) fn new(disk: &'d Disk, now: FileTime) -> Self {
        Self { disk, now, open: BTreeMap::new() }
    }

    /// Whether a key is there.
    pub(crate) fn has_key(&mut self, key: &str) -> Result<bool, MachineError> {
        self.with(key, |hive, rest, _| Ok(find(hive, rest)?.is_some()))
    }

    /// Makes a key and those above it.
    pub(crate) fn make_key(&mut self, key: &str) -> Result<(), MachineError> {
        self.with(key, |hive, rest, now| make(hive, rest, now).map(drop))
    }

    /// Sets a value, making its key if need be.
    pub(crate) fn set(&mut self, key: &str, value: &RegValue) -> Result<(), MachineError> {
        self.with(key, |hive, rest, now| {
            let at = make(hive, rest, now)?;
            hive.set_value(at, &to_utf16(&value.name), value.kind, &value.data, None, now)
        })
    }

    /// A key with everything below it.
    pub(crate) fn read(&mut self, key: &str) -> Result<KeyTree, MachineError> {
        self.with(key, |hive, rest, _| {
            let at = find(hive, rest)?.ok_or(HiveError::Absent)?;
            read_tree(hive, at, 0)
        })
    }

    /// A value and its position.
    pub(crate) fn read_value(&mut self, key: &str, name: &str) -> Result<(RegValue, usize), MachineError> {
        self.with(key, |hive, rest, _| {
            let at = find(hive, rest)?.ok_or(HiveError::Absent)?;
            let wanted = fold(name);
            let values = hive.values(at)?;
            let found = values.into_iter().enumerate().find(|(_, value)| fold(&text(value.name)) == wanted);
            found.map(|(position, value)| (owned(value), position)).ok_or(HiveError::Absent)
        })
    }

    /// Deletes a key with everything below it; tells the time stamp of the key above.
    pub(crate) fn delete(&mut self, key: &str) -> Result<Above, MachineError> {
        self.with(key, |hive, rest, now| {
            let (above, name) = rest.rsplit_once('\\').ok_or(HiveError::Absent)?;
            let above = find(hive, above)?.ok_or(HiveError::Absent)?;
            let before = FileTime(hive.key(above)?.last_written);
            hive.delete_key(above, &to_utf16(name), now)?;
            Ok(Above { before, after: FileTime(now) })
        })
    }

    /// Deletes a value; tells the time stamp of its key.
    pub(crate) fn delete_value(&mut self, key: &str, name: &str) -> Result<Above, MachineError> {
        self.with(key, |hive, rest, now| {
            let at = find(hive, rest)?.ok_or(HiveError::Absent)?;
            let before = FileTime(hive.key(at)?.last_written);
            hive.delete_value(at, &to_utf16(name), now)?;
            Ok(Above { before, after: FileTime(now) })
        })
    }

    /// Makes a key again exactly as it was.
    pub(crate) fn restore(&mut self, key: &str, tree: &KeyTree, above: Above) -> Result<(), MachineError> {
        self.with(key, |hive, rest, now| {
            let (up, _) = rest.rsplit_once('\\').ok_or(HiveError::Absent)?;
            let up = make(hive, up, now)?;
            let found = hive.key(up)?.last_written;
            write_tree(hive, up, tree, now)?;
            settle(hive, up, found, above)
        })
    }

    /// Sets a value again exactly as it was.
    pub(crate) fn restore_value(
        &mut self,
        key: &str,
        value: &RegValue,
        position: usize,
        above: Above,
    ) -> Result<(), MachineError> {
        self.with(key, |hive, rest, now| {
            let at = make(hive, rest, now)?;
            let found = hive.key(at)?.last_written;
            hive.set_value(at, &to_utf16(&value.name), value.kind, &value.data, Some(position), now)?;
            settle(hive, at, found, above)
        })
    }

    /// Writes every hive that was changed: to a new file, synced, then renamed over the old one.
    pub(crate) fn commit(self) -> Result<(), MachineError> {
        for (path, mut hive) in self.open {
            let file = self.disk.locate(&path)?.ok_or_else(|| MachineError::Absent(path.clone()))?;
            let folder = file.parent().unwrap_or(self.disk.root()).to_owned();
            let before = fs::metadata(&folder).map_err(MachineError::io(path.clone()))?;
            let time = filetime::FileTime::from_last_modification_time(&before);
            let fresh = self.disk.scratch.join("hive.new");
            let mut write = || -> std::io::Result<()> {
                let mut out = fs::File::create(&fresh)?;
                out.write_all(&hive.to_bytes(self.now.0))?;
                out.sync_all()?;
                fs::rename(&fresh, &file)?;
                // The folder did not change for anyone but us.
                filetime::set_file_mtime(&folder, time)?;
                fs::File::open(&folder)?.sync_all()
            };
            write().map_err(MachineError::io(path))?;
        }
        Ok(())
    }

    fn with<T>(
        &mut self,
        key: &str,
        work: impl FnOnce(&mut Hive, &str, u64) -> Result<T, HiveError>,
    ) -> Result<T, MachineError> {
        let absent = || MachineError::Absent(key.to_owned());
        let (mount, path) = self.disk.mount_of(key).ok_or_else(absent)?;
        if !self.open.contains_key(&path) {
            let hive = self.disk.load_hive(&path)?;
            self.open.insert(path.clone(), hive);
        }
        let hive = self.open.get_mut(&path).expect("it was opened above");
        work(hive, &key[mount.len()..], self.now.0).map_err(|error| match error {
            HiveError::Absent => absent(),
            source => MachineError::Hive { path, source },
        })
    }
}

/// Gives the container the time that it had before the change that is undone. If somebody else
/// has changed it since, it keeps theirs.
fn settle(hive: &mut Hive, at: KeyAt, found: u64, above: Above) -> Result<(), HiveError> {
    let time = if found == above.after.0 { above.before.0 } else { found };
    hive.set_last_written(at, time)
}

fn find(hive: &Hive, rest: &str) -> Result<Option<KeyAt>, HiveError> {
    let names: Vec<Vec<u16>> = rest.split('\\').filter(|part| !part.is_empty()).map(to_utf16).collect();
    hive.find(names.iter().map(Vec::as_slice))
}

fn time_of(hive: &Hive, rest: &str) -> Option<FileTime> {
    let at = find(hive, rest).ok()??;
    Some(FileTime(hive.key(at).ok()?.last_written))
}

fn make(hive: &mut Hive, rest: &str, now: u64) -> Result<KeyAt, HiveError> {
    let mut at = hive.root();
    for name in rest.split('\\').filter(|part| !part.is_empty()) {
        at = hive.create_key(at, &to_utf16(name), now)?;
    }
    Ok(at)
}

fn text(name: stubble_hive::NameRef<'_>) -> String {
    from_utf16(name.units())
}

fn owned(value: stubble_hive::ValueInfo<'_>) -> RegValue {
    RegValue { name: text(value.name), kind: value.kind, data: value.data.into_owned() }
}

/// Digest of a key's class and access list.
fn seal(class: Option<&[u8]>, security: &[u8]) -> u64 {
    let mut hasher = blake3::Hasher::new();
    hasher.update(class.unwrap_or_default()).update(&[0]).update(security);
    let bytes: [u8; 8] = hasher.finalize().as_bytes()[..8].try_into().expect("eight bytes");
    // 53 bits, so that every reader of JSON keeps the number.
    u64::from_le_bytes(bytes) >> 11
}

fn add_key(
    hive: &Hive,
    at: KeyAt,
    name: &str,
    above: KeyId,
    depth: usize,
    builder: &mut RegistryBuilder,
) -> Result<(), HiveError> {
    if depth > stubble_hive::DEEPEST {
        return Err(HiveError::Damaged { at: 0, what: stubble_hive::Damage::Depth });
    }
    let info = hive.key(at)?;
    let values: Vec<(String, u32, Vec<u8>)> =
        hive.values(at)?.into_iter().map(|value| (text(value.name), value.kind, value.data.into_owned())).collect();
    let id = builder.add(above, name, FileTime(info.last_written), seal(info.class, info.security), values);
    for child in hive.subkeys(at)? {
        let name = text(hive.key(child)?.name);
        add_key(hive, child, &name, id, depth + 1, builder)?;
    }
    Ok(())
}

fn read_tree(hive: &Hive, at: KeyAt, depth: usize) -> Result<KeyTree, HiveError> {
    if depth > stubble_hive::DEEPEST {
        return Err(HiveError::Damaged { at: 0, what: stubble_hive::Damage::Depth });
    }
    let info = hive.key(at)?;
    Ok(KeyTree {
        name: text(info.name),
        last_written: FileTime(info.last_written),
        class: info.class.map(<[u8]>::to_vec),
        security: info.security.to_vec(),
        values: hive.values(at)?.into_iter().map(owned).collect(),
        keys: hive.subkeys(at)?.into_iter().map(|child| read_tree(hive, child, depth + 1)).collect::<Result<_, _>>()?,
    })
}

fn write_tree(hive: &mut Hive, above: KeyAt, tree: &KeyTree, now: u64) -> Result<(), HiveError> {
    let at = hive.create_key(above, &to_utf16(&tree.name), now)?;
    hive.set_security(at, &tree.security)?;
    hive.set_class(at, tree.class.as_deref())?;
    for value in &tree.values {
        hive.set_value(at, &to_utf16(&value.name), value.kind, &value.data, None, now)?;
    }
    for child in &tree.keys {
        write_tree(hive, at, child, now)?;
    }
    hive.set_last_written(at, tree.last_written.0)
}
