//! Where in the registry programs register themselves, and what of it goes when one is the subject's.

use std::sync::LazyLock;

use serde::Deserialize;

use crate::model::Place;
use crate::model::text::fold;

#[derive(Deserialize)]
struct Table {
    classes: Vec<String>,
    shells: Vec<String>,
    holders: Vec<String>,
    add_ins: Vec<String>,
    lists: Vec<String>,
    after_programs: Vec<String>,
    location: Vec<Row>,
}

#[derive(Deserialize)]
struct Row {
    path: String,
    takes: Takes,
    what: String,
}

/// What goes of a location.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Takes {
    /// The key at the end of the row's path.
    Key,
    /// That very value.
    Value,
    /// Nothing: Windows itself notes there what has run.
    History,
}

/// A registration in a known location.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Location {
    /// The place that goes or stays as one.
    pub place: Place,
    /// How much of it goes.
    pub takes: Takes,
    /// What it is, for people.
    pub what: &'static str,
}

static TABLE: LazyLock<Table> =
    LazyLock::new(|| toml::from_str(include_str!("../../data/locations.toml")).expect("the table is tested"));

/// Keys of classes that stand for everything, not for one program's documents.
pub fn is_shell_class(name: &str) -> bool {
    is_among(&TABLE.shells, name)
}

/// Keys of classes that hold those of everybody.
pub fn is_class_holder(name: &str) -> bool {
    is_among(&TABLE.holders, name)
}

/// Keys of a program below which others register their add-ins.
pub fn holds_add_ins(name: &str) -> bool {
    is_among(&TABLE.add_ins, name)
}

/// Names of variables that are lists.
pub fn lists() -> impl Iterator<Item = &'static str> {
    TABLE.lists.iter().map(String::as_str)
}

/// Keys below which Windows keeps settings of programs by the names of their files.
pub fn after_programs() -> impl Iterator<Item = String> {
    TABLE.after_programs.iter().cloned()
}

fn is_among(names: &[String], name: &str) -> bool {
    let folded = fold(name);
    names.iter().any(|one| fold(one) == folded)
}

/// The part of a key's path below a root of classes, of the machine or of a user, with that root.
pub fn below_classes(key: &str) -> Option<(&str, &str)> {
    TABLE.classes.iter().find_map(|root| split_below(key, root))
}

/// Splits a path behind what a pattern describes; `*` stands for one part, also at the end of one.
fn split_below<'p>(path: &'p str, pattern: &str) -> Option<(&'p str, &'p str)> {
    let mut at = 0;
    for wanted in pattern.split('\\') {
        let rest = path.get(at..)?;
        let part = rest.split('\\').next()?;
        if !matches(part, wanted) {
            return None;
        }
        at += part.len() + 1;
    }
    let rest = path.get(at..)?;
    (!rest.is_empty()).then(|| (&path[..at - 1], rest))
}

fn matches(part: &str, wanted: &str) -> bool {
    match wanted.strip_prefix('*') {
        Some(end) => part.len() >= end.len() && fold(part).ends_with(&fold(end)),
        None => part.len() == wanted.len() && fold(part) == fold(wanted),
    }
}

/// The known location that a key, or a value of it, lies in.
pub fn location(key: &str, value: Option<&str>) -> Option<Location> {
    for row in &TABLE.location {
        let roots = if row.path.starts_with("%Classes%") { TABLE.classes.as_slice() } else { &[] };
        let patterns = roots.iter().map(|root| row.path.replace("%Classes%", root));
        let own = std::iter::once(row.path.clone()).filter(|_| roots.is_empty());
        for pattern in patterns.chain(own) {
            let Some(place) = at(key, value, &pattern, row.takes) else { continue };
            return Some(Location { place, takes: row.takes, what: &row.what });
        }
    }
    None
}

fn at(key: &str, value: Option<&str>, pattern: &str, takes: Takes) -> Option<Place> {
    let depth = pattern.matches('\\').count() + 1;
    let end = key.match_indices('\\').nth(depth - 1).map_or(key.len(), |(at, _)| at);
    let own = &key[..end];
    let is_it = own.split('\\').count() == depth
        && own.split('\\').zip(pattern.split('\\')).all(|(part, wanted)| matches(part, wanted));
    match takes {
        _ if !is_it => None,
        Takes::Key => Some(Place::key(own)),
        Takes::Value | Takes::History => match value {
            Some(name) if own.len() == key.len() => Some(Place::value(key, name)),
            _ => (takes == Takes::History).then(|| Place::key(own)),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn registrations_are_found_in_both_views_and_for_users() {
        let key = |path: &str, value| location(path, value).map(|one| (one.place.to_string(), one.takes));
        let classes = "HKLM\\SOFTWARE\\Classes";
        let class = format!("{classes}\\WOW6432Node\\CLSID\\{{1}}");
        assert_eq!(key(&format!("{class}\\InprocServer32"), Some("")), Some((class, Takes::Key)));
        let user = "HKU\\S-1-5-21-1_Classes\\AppID\\{2}";
        assert_eq!(key(user, None), Some((user.to_owned(), Takes::Key)));
        let menu = format!("{classes}\\*\\shellex\\ContextMenuHandlers\\Desk");
        assert_eq!(key(&menu, Some("")), Some((menu, Takes::Key)));
        let layers = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\AppCompatFlags\\Layers";
        assert_eq!(key(layers, Some("C:\\a.exe")), Some((format!("{layers} : C:\\a.exe"), Takes::Value)));
        assert_eq!(key(layers, None), None);
        assert_eq!(key("HKLM\\SOFTWARE\\Fennelgate", None), None);
    }

    #[test]
    fn what_lies_below_the_classes_is_split_off() {
        let split = below_classes("HKU\\S-1-5-21-1_Classes\\Desk.Document\\shell");
        assert_eq!(split, Some(("HKU\\S-1-5-21-1_Classes", "Desk.Document\\shell")));
        assert_eq!(below_classes("HKLM\\SOFTWARE\\Classes"), None);
        assert!(is_shell_class("directory") && !is_shell_class("Desk.Document"));
    }
}
