//! What a footprint tells of who is looked for.

use super::{Class, Footprint, on_machine};
use crate::model::path;
use crate::packages::Registered;
use crate::subject::{Anchor, AnchorKind, Scope, Subject, is_predecessor};
use crate::survey::Survey;

/// Facts about the subject; `from` names the footprint.
pub fn anchors(print: &Footprint, from: &str, registered: &Registered, survey: &Survey) -> Vec<Anchor> {
    let facts = &survey.facts;
    let mut found = Vec::new();
    let mut add = |kind, value: String| found.push(Anchor { kind, value, from: from.to_owned() });
    add(AnchorKind::Name, print.name.clone());
    if !print.publisher.is_empty() {
        add(AnchorKind::Publisher, print.publisher.clone());
    }
    for name in &print.names {
        add(AnchorKind::EarlierName, name.clone());
    }
    if let Some(code) = print.product_code {
        add(AnchorKind::ProductCode, code.to_string());
    }
    if let Some(code) = print.upgrade_code {
        add(AnchorKind::UpgradeCode, code.to_string());
    }
    for other in &print.predecessors {
        if !other.name.is_empty() {
            add(AnchorKind::EarlierName, other.name.clone());
        }
        let Some(code) = other.upgrade_code else { continue };
        add(AnchorKind::EarlierUpgradeCode, code.to_string());
        for (product, told) in registered.related(code) {
            add(AnchorKind::EarlierProduct, product.to_string());
            if !told.name.is_empty() {
                add(AnchorKind::EarlierName, told.name.clone());
            }
        }
    }
    // What cannot be beside the product and is no more than a registration of the same publisher is a leftover.
    for code in print.conflicts.iter().filter_map(|other| other.upgrade_code) {
        let left = registered.related(code).filter(|(_, other)| is_predecessor(survey, false, &print.publisher, other));
        for (product, told) in left {
            add(AnchorKind::EarlierUpgradeCode, code.to_string());
            add(AnchorKind::EarlierProduct, product.to_string());
            if !told.name.is_empty() {
                add(AnchorKind::EarlierName, told.name.clone());
            }
        }
    }
    for folder in print.program_folders() {
        // The folder's name counts as the product's only where it is the last of several parts.
        if folder.split('\\').count() > 2 && folder.starts_with("%ProgramFiles") && !folder.contains("Common Files") {
            add(AnchorKind::FolderName, path::leaf(folder).to_owned());
        }
    }
    let files = print.files.iter().map(|file| (&file.path, file.class, file.sometimes));
    let folders = print.folders.iter().map(|folder| (&folder.path, folder.class, true));
    for (path, class, sometimes) in files.chain(folders) {
        let kind = match class {
            Class::Settings | Class::OwnData => AnchorKind::PrintedData,
            Class::Program | Class::Cache if sometimes => continue,
            Class::Program | Class::Cache => AnchorKind::PrintedFile,
        };
        for place in on_machine(path, facts) {
            add(kind, place);
        }
    }
    for value in print.values.iter().filter(|value| !value.sometimes) {
        for key in on_machine(&value.key, facts) {
            let name = on_machine(&value.name, facts).swap_remove(0);
            add(AnchorKind::PrintedValue, format!("{key}\u{1}{name}"));
        }
    }
    for task in &print.tasks {
        add(AnchorKind::PrintedTask, task.path.clone());
    }
    for driver in &print.drivers {
        add(AnchorKind::PrintedDriver, driver.inf.clone());
    }
    found.sort();
    found.dedup_by(|a, b| a.kind == b.kind && a.value == b.value);
    found
}

/// The subject that a footprint describes, for a machine on which nothing else names it.
pub fn subject(print: &Footprint, anchors: Vec<Anchor>) -> Subject {
    Subject { name: print.name.clone(), publisher: print.publisher.clone(), scope: Scope::Product, anchors }
}
