//! Registry content as the open text that every Windows can take in again by itself.

use stubble_core::model::text::to_utf16;
use stubble_core::model::{KeyTree, RegValue};
use stubble_hive::reg::{Encoding, Writer};

/// A key with all below it, as version 5 of the `.reg` format in UTF-16. Times, class names and
/// access lists have no place in it: it is a copy for people, beside the exact one.
pub fn key_text(path: &str, tree: &KeyTree) -> Vec<u8> {
    let mut writer = Writer::default();
    write(&full(path), tree, &mut writer);
    writer.finish(Encoding::Utf16)
}

/// One value of a key, likewise.
pub fn value_text(key: &str, value: &RegValue) -> Vec<u8> {
    let mut writer = Writer::default();
    writer.key(&to_utf16(&full(key)));
    writer.value(&to_utf16(&value.name), value.kind, &value.data);
    writer.finish(Encoding::Utf16)
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
