//! A footprint from a package's tables, without running it.

use std::collections::BTreeMap;

use super::file::FORMAT;
use super::{Footprint, Made, Named, PrintedFile, PrintedService, PrintedShortcut, PrintedValue, general};
use crate::model::registry::{kind, text_of};
use crate::packages::condition::Condition;
use crate::packages::layout::{Layout, PlacedValue};
use crate::packages::{Package, Upgrade};
use crate::survey::{Facts, User};

/// A machine with roots that no path has by chance, so that all of them are told apart.
fn any_machine() -> Facts {
    Facts {
        control_set: "ControlSet001".to_owned(),
        windows: "C:\\Windows".to_owned(),
        program_files: "C:\\Program Files".to_owned(),
        program_files_x86: Some("C:\\Program Files (x86)".to_owned()),
        program_data: "C:\\ProgramData".to_owned(),
        users: vec![User {
            name: "anybody".to_owned(),
            sid: "S-1-5-21-0-0-0-1000".to_owned(),
            profile: "C:\\Users\\anybody".to_owned(),
            folders: BTreeMap::new(),
        }],
        ..Facts::default()
    }
}

/// What the tables say that the product consists of. `contents` is what the package holds, by file.
pub fn read(package: &Package, contents: &BTreeMap<String, Vec<u8>>) -> Footprint {
    let facts = any_machine();
    let layout = Layout::new(package, &facts);
    let mut files: Vec<PrintedFile> = Vec::new();
    for file in &package.files {
        let Some(path) = layout.file(&file.id) else { continue };
        let digest = contents.get(&file.id).map(|content| super::digest(content));
        files.push(PrintedFile {
            path: general(path, &facts),
            size: Some(file.size),
            version: file.version.clone(),
            blake3: digest.unwrap_or_default(),
            ..PrintedFile::default()
        });
    }
    let services = package.services.iter().map(|row| PrintedService {
        name: row.name.clone(),
        program: package
            .component(&row.component)
            .and_then(|component| layout.file(&component.key))
            .map(|program| general(program, &facts))
            .unwrap_or_default(),
        start: u32::try_from(row.start).ok(),
        account: String::new(),
        runs: package.starts.contains(&row.name),
    });
    let shortcuts = layout.shortcuts().into_iter();
    let shortcuts = shortcuts
        .map(|(path, target)| PrintedShortcut { path: general(&path, &facts), target: general(&target, &facts) });
    let values = package.registry.iter().filter_map(|row| layout.value(row)).map(|placed| value(&placed, &facts));
    let others: Vec<&Upgrade> =
        package.upgrades.iter().filter(|upgrade| Some(upgrade.code) != package.upgrade_code).collect();
    let named = |wanted: &dyn Fn(&Upgrade) -> bool| -> Vec<Named> {
        let named = others.iter().filter(|upgrade| wanted(upgrade));
        named.map(|other| Named { upgrade_code: Some(other.code), ..Named::default() }).collect()
    };
    let asks_for = |property: &str| {
        let conditions = package.conditions.iter().filter_map(|row| Condition::parse(&row.condition).ok());
        conditions.into_iter().any(|condition| condition.properties().contains(&property))
    };
    let mut print = Footprint {
        format: FORMAT.to_owned(),
        name: package.name.clone(),
        publisher: package.manufacturer.clone(),
        version: package.version.to_string(),
        product_code: Some(package.product_code),
        upgrade_code: package.upgrade_code,
        made: Made::Read,
        predecessors: named(&|other| !other.only_detect),
        conflicts: named(&|other| other.only_detect && asks_for(&other.property)),
        files,
        values: values.collect(),
        services: services.collect(),
        shortcuts: shortcuts.collect(),
        ..Footprint::default()
    };
    print.files.sort();
    print.values.sort();
    print.predecessors.sort();
    print.predecessors.dedup();
    print.conflicts.sort();
    print.conflicts.dedup();
    print
}

fn value(placed: &PlacedValue, facts: &Facts) -> PrintedValue {
    printed(&placed.key, &placed.value.name, placed.value.kind, &placed.value.data, facts)
}

/// A value as a footprint has it: text with roots in front of paths.
pub(super) fn printed(key: &str, name: &str, number: u32, data: &[u8], facts: &Facts) -> PrintedValue {
    let text = matches!(number, kind::SZ | kind::EXPAND_SZ).then(|| in_text(&text_of(data), facts));
    let dword = (number == kind::DWORD).then(|| data.try_into().ok().map(u32::from_le_bytes)).flatten();
    PrintedValue {
        key: general(key, facts),
        name: general(name, facts),
        kind: number,
        text,
        number: dword,
        sometimes: false,
    }
}

/// A text in which a path may stand at the beginning, or in quotes.
pub(super) fn in_text(text: &str, facts: &Facts) -> String {
    match text.strip_prefix('"') {
        Some(rest) => format!("\"{}", general(rest, facts)),
        None => general(text, facts),
    }
}
