//! The open text format of registry content, `.reg` version 5.
//!
//! A first line `Windows Registry Editor Version 5.00`, then keys in brackets, each followed by
//! its values: `"name"="text"`, `dword:`, `hex:` and `hex(n):` with continuation lines, `@` for
//! the default value, `-` for what is to be deleted. UTF-16LE with a mark, or UTF-8. Times, class
//! names and access lists have no place in it.

mod export;
mod import;

pub use export::{Encoding, Writer};
pub use import::{Entry, RegError, parse};

use crate::{Bytes, Hive, HiveError, KeyAt, ValueAt, Visit, Walked};

pub(crate) const HEADER: &str = "Windows Registry Editor Version 5.00";
pub(crate) const SZ: u32 = 1;
pub(crate) const BINARY: u32 = 3;
pub(crate) const DWORD: u32 = 4;

impl Hive {
    /// The key and all below it as text; `path` is what the key is called there, such as
    /// `HKEY_LOCAL_MACHINE\SOFTWARE`. Fails where any part of it is damaged.
    pub fn export(&self, from: KeyAt, path: &[u16], encoding: Encoding) -> Result<Vec<u8>, HiveError> {
        let mut export = Export { hive: self, writer: Writer::default(), paths: vec![path.to_vec()], failed: None };
        self.walk(from, 0, &mut export)?;
        match export.failed {
            Some(error) => Err(error),
            None => Ok(export.writer.finish(encoding)),
        }
    }

    /// Makes the changes that a text asks for below `mount`, which is what the hive's root is
    /// called there. Fails with [`HiveError::Absent`] at a key outside of it.
    pub fn import(&mut self, entries: &[Entry], mount: &[u16], now: u64) -> Result<(), HiveError> {
        for entry in entries {
            let names = self.below(entry.key(), mount)?;
            let names: Vec<&[u16]> = names.iter().map(Vec::as_slice).collect();
            match entry {
                Entry::Key { .. } => drop(self.make(&names, now)?),
                Entry::DropKey { .. } => {
                    let (leaf, above) = names.split_last().ok_or(HiveError::Absent)?;
                    if let Some(above) = self.find(above.iter().copied())?
                        && self.subkey(above, leaf)?.is_some()
                    {
                        self.delete_key(above, leaf, now)?;
                    }
                }
                Entry::Value { name, kind, data, .. } => {
                    let at = self.make(&names, now)?;
                    self.set_value(at, name, *kind, data, None, now)?;
                }
                Entry::DropValue { name, .. } => {
                    if let Some(at) = self.find(names)? {
                        match self.delete_value(at, name, now) {
                            Ok(_) | Err(HiveError::Absent) => {}
                            Err(error) => return Err(error),
                        }
                    }
                }
            }
        }
        Ok(())
    }

    fn make(&mut self, names: &[&[u16]], now: u64) -> Result<KeyAt, HiveError> {
        names.iter().try_fold(self.root(), |at, name| self.create_key(at, name, now))
    }

    fn below(&self, key: &[u16], mount: &[u16]) -> Result<Vec<Vec<u16>>, HiveError> {
        let upper = |units: &[u16]| units.iter().map(|unit| crate::name::upper(*unit)).collect::<Vec<u16>>();
        let slash = u16::from(b'\\');
        if upper(key) == upper(mount) {
            return Ok(Vec::new());
        }
        match key.split_at_checked(mount.len()) {
            Some((top, [first, rest @ ..])) if *first == slash && upper(top) == upper(mount) => {
                Ok(rest.split(|unit| *unit == slash).map(<[u16]>::to_vec).collect())
            }
            _ => Err(HiveError::Absent),
        }
    }
}

struct Export<'h> {
    hive: &'h Hive,
    writer: Writer,
    paths: Vec<Vec<u16>>,
    failed: Option<HiveError>,
}

impl Visit for Export<'_> {
    type Node = usize;

    fn key(&mut self, above: usize, key: Walked<'_>) -> usize {
        let mut path = self.paths[above].clone();
        // The first key visited is the one that has been given a path.
        if self.paths.len() > 1 {
            path.push(u16::from(b'\\'));
            path.extend(key.name.units());
        }
        self.writer.key(&path);
        self.paths.push(path);
        self.paths.len() - 1
    }

    fn value(&mut self, value: ValueAt<'_>) {
        let name: Vec<u16> = value.name.units().collect();
        match &value.data {
            Bytes::At { start, len } => {
                self.writer.value(&name, value.kind, &self.hive.file[*start..start + len]);
            }
            Bytes::Joined(bytes) => self.writer.value(&name, value.kind, bytes),
        }
    }

    fn damage(&mut self, _above: usize, error: HiveError) {
        self.failed.get_or_insert(error);
    }
}
