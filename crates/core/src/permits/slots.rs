//! The table of places in the registry where programs register themselves: `data/slots.toml`.

use std::sync::LazyLock;

use serde::Deserialize;

use super::Shape;
use super::spelling::{CLASSES, Listed, physical};
use crate::model::RegValue;
use crate::model::registry::kind;
use crate::model::text::fold;
use crate::survey::Facts;

#[derive(Deserialize)]
struct Table {
    shells: Vec<String>,
    holders: Vec<String>,
    verbs: Vec<String>,
    add_ins: Vec<String>,
    lists: Vec<String>,
    variables: Vec<String>,
    reserved: Vec<String>,
    endings: Vec<String>,
    slot: Vec<Row>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Row {
    #[serde(rename = "where")]
    pattern: String,
    takes: Takes,
    what: String,
    #[serde(default)]
    proof: Proof,
    #[serde(default = "looked")]
    looked: bool,
    #[serde(default)]
    values: Vec<String>,
    back: Option<String>,
    needed: Option<String>,
}

fn looked() -> bool {
    true
}

/// What goes of a slot.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Takes {
    /// The key at the end of the row's path.
    Key,
    /// One value of the very key.
    Value,
    /// One entry of a value that is a list.
    Entry,
    /// A part of a number.
    Count,
    /// What a value of Windows' own leads to: it is set back.
    Back,
    /// Nothing: Windows itself notes there what has run.
    History,
}

/// What has to be seen in a slot before it may go; the table's head says what each means.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Proof {
    /// It leads to a place where programs are.
    #[default]
    Leads,
    /// The class that it names, or is named after, is a program's, or is gone and was none of Windows'.
    Handler,
    /// It has a name for people, or leads to a program, and is no update of Windows.
    Listed,
    /// The key that it names is none of Windows'.
    Named,
    /// It does not lead into Windows alone.
    Apart,
    /// The class in the value's name is not Windows' own.
    Class,
    /// The file in the key's name is no program of Windows.
    Program,
    /// The entry names a service that may go.
    Service,
    /// The file that it names is not Windows' own.
    File,
    /// A library, by its path or by its name in Windows' folder, that another maker made.
    Library,
    /// A variable that Windows does not need.
    Variable,
    /// A rule of the firewall for a program that is not Windows' own.
    Firewall,
    /// The rules for classes are asked; the row tells where to look.
    Made,
    /// Nothing.
    Free,
}

/// One place where programs register themselves.
pub struct Slot {
    /// Folded parts of the pattern; `*` is any one part.
    pattern: Vec<String>,
    /// What goes of it.
    pub takes: Takes,
    /// What it is, for people.
    pub what: &'static str,
    /// What has to be seen before it may go.
    pub proof: Proof,
    /// Whether what leads to the subject there is a registration of it.
    pub looked: bool,
    /// The only values that may be meant, folded; any if there is none.
    values: Vec<String>,
    /// What Windows has in the value.
    back: Option<&'static str>,
    /// What Windows needs the program in the value for, as a sentence, if Windows does not work without it.
    pub needed: Option<&'static str>,
}

impl Slot {
    /// Number of parts of the pattern: where the unit ends.
    pub fn depth(&self) -> usize {
        self.pattern.len()
    }

    /// Whether what goes of the slot is of this shape, at this depth.
    pub(super) fn is_for(&self, listed: &Listed, shape: Shape<'_>) -> bool {
        let is_here = listed.parts.len() == self.depth();
        match (self.takes, shape) {
            (Takes::Key, Shape::Entry(..) | Shape::Count(_)) => false,
            (Takes::Key, _) => true,
            (Takes::Value, Shape::Value(name)) => is_here && self.may_name(name),
            (Takes::Entry, Shape::Entry(name, _)) => is_here && self.may_name(name),
            (Takes::Count, Shape::Count(_) | Shape::Value(_)) => is_here,
            (Takes::Back, Shape::Back(name)) => is_here && self.may_name(name),
            _ => false,
        }
    }

    /// Folded parts of its path, with the placeholders of the lists.
    pub(super) fn pattern(&self) -> &[String] {
        &self.pattern
    }

    /// Whether a value of this name may be meant.
    pub fn may_name(&self, value: &str) -> bool {
        self.values.is_empty() || self.values.contains(&fold(value))
    }

    /// Whether a key is this slot's, or lies below it.
    fn is_over(&self, parts: &[String]) -> bool {
        let fits = |(part, wanted): (&String, &String)| wanted == "*" || part == wanted;
        parts.len() >= self.pattern.len() && parts.iter().zip(&self.pattern).all(fits)
    }
}

static TABLE: LazyLock<Table> =
    LazyLock::new(|| toml::from_str(include_str!("../../data/slots.toml")).expect("the table is tested"));

static SLOTS: LazyLock<Vec<Slot>> = LazyLock::new(|| {
    let mut slots: Vec<Slot> = TABLE
        .slot
        .iter()
        .map(|row| Slot {
            pattern: row.pattern.split('\\').map(fold).collect(),
            takes: row.takes,
            what: row.what.as_str(),
            proof: row.proof,
            looked: row.looked,
            values: row.values.iter().map(|name| fold(name)).collect(),
            back: row.back.as_deref(),
            needed: row.needed.as_deref(),
        })
        .collect();
    // The one that tells most comes first.
    slots.sort_by_key(|slot| std::cmp::Reverse(slot.pattern.len()));
    slots
});

/// The slots that a key lies in, the deepest first.
pub fn over(listed: &Listed) -> impl Iterator<Item = &'static Slot> {
    SLOTS.iter().filter(|slot| slot.is_over(&listed.parts))
}

/// All slots.
pub(super) fn all() -> impl Iterator<Item = &'static Slot> {
    SLOTS.iter()
}

/// The slot of a class of Windows' own that a user's key overrides; Windows has no such key for a user.
pub fn override_of_user(path: &str, listed: &Listed) -> Option<&'static Slot> {
    let is_users = is_users_class(path, listed);
    let is_it = |slot: &&Slot| slot.takes == Takes::Back && slot.needed.is_some() && slot.depth() == listed.parts.len();
    over(listed).find(is_it).filter(|_| is_users)
}

/// Whether a key is one of a user's classes, which override the machine's.
pub fn is_users_class(path: &str, listed: &Listed) -> bool {
    listed.parts.first().is_some_and(|first| first == CLASSES) && fold(path).starts_with("HKU\\")
}

/// What Windows itself has in a value that programs point at themselves; `None` for every other value.
pub fn back(key: &str, value: &str, facts: &Facts) -> Option<RegValue> {
    let path = physical(key, facts);
    let listed = Listed::read(&path);
    if is_users_class(&path, &listed) {
        return None;
    }
    let slot = over(&listed).find(|slot| slot.is_for(&listed, Shape::Back(value)))?;
    let text = slot.back?.replace("%Windows%", &facts.windows);
    let kind = if text.contains("%SystemRoot%") { kind::EXPAND_SZ } else { kind::SZ };
    Some(RegValue { kind, ..RegValue::text(value, &text) })
}

/// Keys below which Windows keeps settings of programs by the names of their files, in both views.
pub fn after_programs() -> impl Iterator<Item = String> {
    let rows = TABLE.slot.iter().filter(|row| row.proof == Proof::Program && row.takes == Takes::Key);
    rows.flat_map(|row| {
        let above = row.pattern.trim_end_matches("\\*").to_owned();
        let narrow = above.replacen("HKLM\\SOFTWARE\\", "HKLM\\SOFTWARE\\WOW6432Node\\", 1);
        [above, narrow]
    })
}

/// Keys of classes that stand for everything, not for one program's documents.
pub fn is_shell_class(name: &str) -> bool {
    is_among(&TABLE.shells, name)
}

/// Keys of classes that hold those of everybody.
pub fn is_class_holder(name: &str) -> bool {
    is_among(&TABLE.holders, name)
}

/// Verbs of the shell that Windows gives to its own classes.
pub fn is_windows_verb(name: &str) -> bool {
    is_among(&TABLE.verbs, name)
}

/// Keys of a program below which others register their add-ins.
pub fn holds_add_ins(name: &str) -> bool {
    is_among(&TABLE.add_ins, name)
}

/// Names directly below `SOFTWARE` that are no publisher's.
pub fn is_reserved(name: &str) -> bool {
    is_among(&TABLE.reserved, name)
}

/// Names of variables that are lists.
pub fn lists() -> impl Iterator<Item = &'static str> {
    TABLE.lists.iter().map(String::as_str)
}

/// Whether an end of names is one of those that Windows itself lists.
pub fn is_windows_ending(entry: &str) -> bool {
    is_among(&TABLE.endings, entry)
}

/// Whether Windows itself needs a variable.
pub fn is_windows_variable(name: &str) -> bool {
    let folded = fold(name);
    TABLE.variables.iter().map(|own| fold(own)).any(|own| match own.strip_suffix('*') {
        Some(start) => folded.starts_with(start),
        None => folded == own,
    })
}

fn is_among(names: &[String], name: &str) -> bool {
    let folded = fold(name);
    names.iter().any(|one| fold(one) == folded)
}
