//! The hives of the disk as one registry.

use std::collections::{BTreeMap, HashMap};

use stubble_core::model::text::{fold, from_utf16, to_utf16};
use stubble_core::model::{FileTime, KeyTree, RegValue};
use stubble_core::survey::{BlockId, Data, Gap, KeyId, Name, Registry, RegistryBuilder};
use stubble_hive::{Bytes, Hive, HiveError, KeyAt, NameRef, Recovery, ValueAt, Visit, Walked};

use super::Disk;
use super::hives::HiveFile;
use crate::MachineError;

impl Disk {
    /// Adds all hives to a survey. A user's hive that cannot be read is a gap; without the
    /// machine's own there is no survey.
    pub(super) fn read_registry(&self, builder: &mut RegistryBuilder, gaps: &mut Vec<Gap>) -> Result<(), MachineError> {
        let mut tops: BTreeMap<String, KeyId> = BTreeMap::new();
        for hive in self.hive_files() {
            let top = hive.mount.split('\\').next().unwrap_or(&hive.mount);
            let mut above = |builder: &mut RegistryBuilder| {
                *tops.entry(top.to_owned()).or_insert_with(|| builder.add_key(0, Name::Copied(top), FileTime(0), 0))
            };
            self.read_hive_into(&hive, &mut above, builder, gaps)?;
        }
        Ok(())
    }

    /// Adds one hive where `above` says. A user's hive that cannot be read is a gap.
    pub(crate) fn read_hive_into(
        &self,
        HiveFile { mount, path, needed }: &HiveFile,
        above: &mut dyn FnMut(&mut RegistryBuilder) -> KeyId,
        builder: &mut RegistryBuilder,
        gaps: &mut Vec<Gap>,
    ) -> Result<(), MachineError> {
        let name = mount.split_once('\\').map_or("", |(_, name)| name);
        let hive = match self.load_hive(path) {
            Ok(hive) => hive,
            Err(MachineError::Absent(_)) if !needed && !self.has_folder_of(path) => return Ok(()),
            Err(error) if !needed => {
                gaps.push(Gap { what: path.clone(), why: error.to_string() });
                return Ok(());
            }
            Err(error) => return Err(error),
        };
        if let Recovery::Stale(why) = hive.recovery() {
            let why = format!("it was not closed cleanly and may be stale: {why}");
            gaps.push(Gap { what: path.clone(), why });
        }
        let above = above(builder);
        let mut tell = |error: HiveError| gaps.push(Gap { what: path.clone(), why: error.to_string() });
        match read_hive(hive, name, above, builder, &mut tell) {
            Err(error) if !needed => {
                tell(error);
                Ok(())
            }
            outcome => outcome.map_err(|source| MachineError::Hive { path: path.clone(), source }),
        }
    }

    /// Whether the folder in which a user's hive would lie is there: then the hive is missed.
    fn has_folder_of(&self, path: &str) -> bool {
        path.ends_with("NTUSER.DAT")
            && path.rsplit_once('\\').is_some_and(|(folder, _)| matches!(self.locate(folder), Ok(Some(_))))
    }

    /// Adds one key with what lies below it and the names above it.
    pub(crate) fn read_key_into(&self, key: &str, partial: &mut PartialKeys) -> Result<(), MachineError> {
        let Some(HiveFile { mount, path, .. }) = self.hive_of(key) else { return Ok(()) };
        let lent = match self.lend_hive(&path) {
            Err(MachineError::Absent(_)) => return Ok(()),
            other => other?,
        };
        let hive = &lent.hive;
        let wrap = |source| MachineError::Hive { path: path.clone(), source };
        if let Some(at) = find(hive, &key[mount.len()..]).map_err(wrap)? {
            let tree = read_tree(hive, at, 0).map_err(wrap)?;
            partial.insert(key, tree, &|part| time_of(hive, part.get(mount.len()..)?));
        }
        self.give_back(&path, lent);
        Ok(())
    }

    /// The hive that holds a key.
    pub(crate) fn hive_of(&self, key: &str) -> Option<HiveFile> {
        let inside = |mount: &str| stubble_core::model::path::is_inside_or_same(key, mount);
        self.hive_files().into_iter().find(|hive| inside(&hive.mount))
    }
}

/// One hive as a registry of its own, below a key `HIVE`.
pub fn registry_of(hive: Hive) -> Result<Registry, HiveError> {
    let mut builder = RegistryBuilder::default();
    let mut first = None;
    read_hive(hive, "HIVE", 0, &mut builder, &mut |error| {
        first.get_or_insert(error);
    })?;
    first.map_or_else(|| Ok(builder.finish()), Err)
}

/// Adds a whole hive below `above`, where its root is called `name`. The builder keeps the file's
/// bytes: data is not copied, except where it lay in several pieces.
fn read_hive(
    hive: Hive,
    name: &str,
    above: KeyId,
    builder: &mut RegistryBuilder,
    tell: &mut dyn FnMut(HiveError),
) -> Result<(), HiveError> {
    let block = builder.reserve_block();
    // Real hives hold a key in every 300 bytes and a value in every 150.
    builder.reserve(hive.len() / 300, hive.len() / 150);
    let mut reader =
        Reader { hive: &hive, root: Some(name), block, builder, tell, seals: HashMap::new(), last: (u32::MAX, 0) };
    let walked = hive.walk(hive.root(), above, &mut reader);
    // What was read before an error refers to the bytes as well.
    builder.fill_block(block, hive.into_bytes());
    walked
}

struct Reader<'a, 'b> {
    hive: &'a Hive,
    /// What the hive's root is called; its own name means nothing.
    root: Option<&'a str>,
    block: BlockId,
    builder: &'b mut RegistryBuilder,
    tell: &'b mut dyn FnMut(HiveError),
    /// Digests of descriptors, by cell: thousands of keys share one.
    seals: HashMap<u32, u64>,
    /// The digest that was needed last: neighbours mostly share one.
    last: (u32, u64),
}

impl Reader<'_, '_> {
    fn seal_of(&mut self, cell: u32) -> u64 {
        if self.last.0 != cell {
            let hive = self.hive;
            let sealed =
                *self.seals.entry(cell).or_insert_with(|| seal(None, hive.descriptor(cell).unwrap_or_default()));
            self.last = (cell, sealed);
        }
        self.last.1
    }

    /// A name as it lies in the file where that is plain text, else spelled out in `room`.
    fn name<'n>(&self, name: NameRef<'_>, start: usize, room: &'n mut String) -> Name<'n> {
        if let NameRef::Latin1(bytes) = name
            && bytes.is_ascii()
        {
            return Name::In { block: self.block, start: start as u32, len: bytes.len() as u16 };
        }
        *room = from_utf16(name.units());
        Name::Copied(room)
    }
}

impl Visit for Reader<'_, '_> {
    type Node = KeyId;

    fn key(&mut self, above: KeyId, key: Walked<'_>) -> KeyId {
        let seal = match key.class {
            None => self.seal_of(key.security_cell),
            class => seal(class, self.hive.descriptor(key.security_cell).unwrap_or_default()),
        };
        let mut room = String::new();
        let name = match self.root.take() {
            Some(root) => Name::Copied(root),
            None => self.name(key.name, key.name_start, &mut room),
        };
        self.builder.add_key(above, name, FileTime(key.last_written), seal)
    }

    fn value(&mut self, value: ValueAt<'_>) {
        let mut room = String::new();
        let name = self.name(value.name, value.name_start, &mut room);
        let data = match &value.data {
            Bytes::At { start, len } => Data::In { block: self.block, start: *start as u32, len: *len as u32 },
            Bytes::Joined(bytes) => Data::Copied(bytes),
        };
        self.builder.add_value(name, value.kind, data);
    }

    fn subkeys(&mut self, key: KeyId, count: usize, sorted: bool) {
        self.builder.expect(key, count, sorted);
    }

    fn damage(&mut self, _above: KeyId, error: HiveError) {
        (self.tell)(error);
    }
}

/// Keys collected one by one, before they become one registry.
#[derive(Default)]
pub(crate) struct PartialKeys {
    top: Vec<KeyTree>,
}

impl PartialKeys {
    /// Adds a key; `time` gives the time stamps of those above it, by their paths.
    pub(crate) fn insert(&mut self, path: &str, tree: KeyTree, time: &dyn Fn(&str) -> Option<FileTime>) {
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

pub(super) fn find(hive: &Hive, rest: &str) -> Result<Option<KeyAt>, HiveError> {
    let names: Vec<Vec<u16>> = rest.split('\\').filter(|part| !part.is_empty()).map(to_utf16).collect();
    hive.find(names.iter().map(Vec::as_slice))
}

fn time_of(hive: &Hive, rest: &str) -> Option<FileTime> {
    let at = find(hive, rest).ok()??;
    Some(FileTime(hive.key(at).ok()?.last_written))
}

pub(super) fn text(name: stubble_hive::NameRef<'_>) -> String {
    from_utf16(name.units())
}

pub(super) fn owned(value: stubble_hive::ValueInfo<'_>) -> RegValue {
    RegValue { name: text(value.name), kind: value.kind, data: value.data.into_owned() }
}

/// Digest of a key's class and access list.
pub(crate) fn seal(class: Option<&[u8]>, security: &[u8]) -> u64 {
    let mut hasher = blake3::Hasher::new();
    hasher.update(class.unwrap_or_default()).update(&[0]).update(security);
    let bytes: [u8; 8] = hasher.finalize().as_bytes()[..8].try_into().expect("eight bytes");
    // 53 bits, so that every reader of JSON keeps the number.
    u64::from_le_bytes(bytes) >> 11
}

pub(super) fn read_tree(hive: &Hive, at: KeyAt, depth: usize) -> Result<KeyTree, HiveError> {
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
