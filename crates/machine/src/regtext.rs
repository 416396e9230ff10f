//! Registry content as the open text that every Windows can take in again by itself.

use stubble_core::model::text::to_utf16;
use stubble_core::model::{KeyTree, RegValue};
use stubble_hive::reg::{Encoding, Writer};

/// Keys and values as version 5 of the `.reg` format in UTF-16. Times, class names and access lists have no place in
/// it: it is a copy for people, beside the exact one.
#[derive(Default)]
pub struct RegText(Option<Writer>);

impl RegText {
    /// Adds a key with all below it.
    pub fn key(&mut self, path: &str, tree: &KeyTree) {
        write(&full(path), tree, self.0.get_or_insert_default());
    }

    /// Adds one value of a key.
    pub fn value(&mut self, key: &str, value: &RegValue) {
        let writer = self.0.get_or_insert_default();
        writer.key(&to_utf16(&full(key)));
        writer.value(&to_utf16(&value.name), value.kind, &value.data);
    }

    /// The text; `None` where nothing was added.
    pub fn finish(self) -> Option<Vec<u8>> {
        self.0.map(|writer| writer.finish(Encoding::Utf16))
    }
}

fn write(path: &str, tree: &KeyTree, writer: &mut Writer) {
    writer.key(&to_utf16(path));
    for value in &tree.values {
        writer.value(&to_utf16(&value.name), value.kind, &value.data);
    }
    for child in &tree.keys {
        write(&format!("{path}\\{}", child.name), child, writer);
    }
}

/// The path with the root's full name.
fn full(path: &str) -> String {
    let (root, rest) = path.split_once('\\').unwrap_or((path, ""));
    let root = match root {
        "HKLM" => "HKEY_LOCAL_MACHINE",
        "HKU" => "HKEY_USERS",
        other => other,
    };
    format!("{root}\\{rest}")
}
