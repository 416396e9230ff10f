//! Names that are Windows' own: folders, keys, classes, services, packages of the store.
//!
//! `data/windows/*.txt` holds them, one a line, from Microsoft's public documentation. They are no list of all
//! that must stay: what no permit covers stays anyway. They tell where a permit's pattern meets Windows' own.

use std::collections::{HashMap, HashSet};
use std::sync::LazyLock;

use super::spelling::Listed;
use crate::model::Guid;
use crate::model::text::fold;

/// What a name of Windows' own is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Own {
    /// Windows' own, with all below it.
    Windows,
    /// Shared by programs of all publishers; what lies below may be one program's.
    Shared,
    /// A person's, with all below it.
    Person,
    /// A link that Windows keeps for old programs.
    Link,
}

impl Own {
    fn of(word: &str) -> Self {
        match word {
            "container" => Self::Shared,
            "user" => Self::Person,
            "link" => Self::Link,
            _ => Self::Windows,
        }
    }
}

/// A tree of names, in which a line stands for a place and, by its class, for what lies below.
pub struct Names {
    exact: HashMap<String, Own>,
    /// Every path above a line.
    above: HashSet<String>,
    /// Lines with a placeholder or `*` in them, as folded parts.
    patterns: Vec<(Vec<String>, Own)>,
}

impl Names {
    fn read(lines: &str, split: &dyn Fn(&str) -> Vec<String>) -> Self {
        let mut names = Self { exact: HashMap::new(), above: HashSet::new(), patterns: Vec::new() };
        for (word, path) in lines.lines().filter_map(|line| line.split_once('\t')) {
            let parts = split(path.trim_end_matches('\\'));
            names.above.extend((1..parts.len()).map(|len| parts[..len].join("\\")));
            // The key `*` of the classes is the class of that very name.
            let is_open = |part: &String| part.len() > 1 && part.contains('*') || part.contains("{COMPANY}");
            if parts.iter().any(is_open) {
                names.patterns.push((parts, Own::of(word)));
            } else {
                names.exact.insert(parts.join("\\"), Own::of(word));
            }
        }
        names
    }

    /// The deepest line at or above a place, and whether it is the place itself.
    ///
    /// `parts` are folded, with the placeholders of the lists for what differs between machines.
    pub fn over(&self, parts: &[String]) -> Option<(Own, bool)> {
        (1..=parts.len()).rev().find_map(|len| {
            let upper = &parts[..len];
            let by_pattern = || {
                let fits = |pattern: &[String]| {
                    pattern.len() == len && pattern.iter().zip(upper).all(|(wanted, part)| is_like(part, wanted))
                };
                self.patterns.iter().find(|(pattern, _)| fits(pattern)).map(|(_, own)| *own)
            };
            let own = self.exact.get(&upper.join("\\")).copied().or_else(by_pattern)?;
            Some((own, len == parts.len()))
        })
    }

    /// Whether a line lies below a place: what goes with all below it would take that as well.
    pub fn holds_any(&self, parts: &[String]) -> bool {
        self.above.contains(&parts.join("\\"))
    }
}

/// Whether a folded name is what a folded pattern wants: `*` and `{COMPANY}` are any rest.
fn is_like(part: &str, wanted: &str) -> bool {
    match wanted.split_once('*').or_else(|| wanted.split_once("{COMPANY}")) {
        Some((start, end)) => part.len() >= start.len() + end.len() && part.starts_with(start) && part.ends_with(end),
        None => part == wanted,
    }
}

/// Folders and files, without those below the Windows folder, all of which are Windows' own.
pub static FOLDERS: LazyLock<Names> = LazyLock::new(|| {
    Names::read(include_str!("../../data/windows/folders.txt"), &|path| path.split('\\').map(fold).collect())
});

/// Keys, for both views as one, and for all users and control sets as one.
pub static KEYS: LazyLock<Names> =
    LazyLock::new(|| Names::read(include_str!("../../data/windows/keys.txt"), &|path| Listed::read(path).parts));

static CLASSES: LazyLock<HashSet<String>> = LazyLock::new(|| {
    let ids = include_str!("../../data/windows/classes.txt").lines().filter_map(|line| line.split('\t').next());
    ids.map(fold).collect()
});

/// Services, folded, and whether Windows starts by them; those with `*` are beginnings.
static SERVICES: LazyLock<HashMap<String, bool>> = LazyLock::new(|| {
    let lines = include_str!("../../data/windows/services.txt").lines();
    lines.map(|line| line.split_once('\t').map_or((fold(line), false), |(name, _)| (fold(name), true))).collect()
});

static OF_MAKERS: LazyLock<HashSet<String>> =
    LazyLock::new(|| include_str!("../../data/windows/services-of-makers.txt").lines().map(fold).collect());

static STORE: LazyLock<Vec<String>> =
    LazyLock::new(|| include_str!("../../data/windows/store.txt").lines().map(fold).collect());

/// Whether an identifier is one of Windows' own classes, interfaces, libraries of types or categories.
pub fn is_class(id: Guid) -> bool {
    CLASSES.contains(&fold(&id.to_string()))
}

/// Whether a service is Windows' own by its name.
pub fn is_service(name: &str) -> bool {
    let folded = fold(name);
    let begins = || SERVICES.keys().any(|own| own.strip_suffix('*').is_some_and(|start| folded.starts_with(start)));
    SERVICES.contains_key(&folded) || begins()
}

/// Whether a driver of this name comes with Windows, under its maker's name.
pub fn is_driver_of_maker(name: &str) -> bool {
    OF_MAKERS.contains(&fold(name))
}

/// Whether a package of the store's kind is a part of Windows, or a run-time that others need.
///
/// `full_name` is `Name_Version_Architecture_Resource_Publisher`; a family name is `Name_Publisher`.
pub fn is_store_package(full_name: &str) -> bool {
    // The publisher of Windows' own packages, as names of packages have it.
    const OF_WINDOWS: &str = "CW5N1H2TXYEWY";
    let folded = fold(full_name);
    let (name, publisher) = (folded.split('_').next(), folded.rsplit('_').next());
    if publisher == Some(OF_WINDOWS) {
        return true;
    }
    STORE.iter().any(|own| match own.rsplit_once('_') {
        Some((own_name, own_publisher)) => {
            publisher == Some(own_publisher) && name.is_some_and(|name| is_like(name, own_name))
        }
        None => folded.starts_with(own.trim_end_matches('*')),
    })
}

static PROGRAMS: LazyLock<HashSet<String>> =
    LazyLock::new(|| include_str!("../../data/windows/programs.txt").lines().map(fold).collect());

/// Whether a file's name is that of a program that comes with Windows.
pub fn is_program(name: &str) -> bool {
    PROGRAMS.contains(&fold(name))
}
