//! What every rule looks at: the survey, the registrations, and the subject's names.

use std::cell::{OnceCell, RefCell};
use std::collections::{BTreeSet, HashMap, HashSet};

use super::mentions::mentions;
use super::roots::roots;
use crate::model::text::fold;
use crate::model::{Guid, path};
use crate::packages::Registered;
use crate::packages::registered::uninstall_keys;
use crate::permits::Permits;
use crate::subject::names::{names_a_part, product_words, publisher_words, squashed, together};
use crate::subject::{AnchorKind, Subject};
use crate::survey::firewall::FirewallRule;
use crate::survey::{EntryKind, KeyId, NodeId, Survey, User};
use crate::units;
use crate::units::drivers::Driver;
use crate::units::store_packages::StorePackage;
use crate::units::tasks::Task;

/// How well a folder's or key's name names the subject.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum NameFit {
    /// The whole product name.
    Full,
    /// The name that the product's own install folder has.
    Folder,
    /// The product name without the brand that it shares with a predecessor.
    Short,
}

/// Letters that a name must have to tell anything by beginning with it.
const TELLING: usize = 6;

/// Another installed product.
#[derive(Clone, Debug)]
pub struct Other {
    /// Its name.
    pub name: String,
    /// Its publisher.
    pub publisher: String,
    /// Folders that its registrations name.
    pub folders: Vec<String>,
    /// Its key in the list of programs.
    pub entry: String,
}

/// What consists of several places, read once.
#[derive(Debug, Default)]
struct Units {
    tasks: OnceCell<Vec<Task>>,
    drivers: OnceCell<Vec<Driver>>,
    store_packages: OnceCell<Vec<StorePackage>>,
    firewall_rules: OnceCell<Vec<FirewallRule>>,
    /// Files that the network needs, with why.
    needed: OnceCell<HashMap<NodeId, &'static str>>,
    counts: OnceCell<HashMap<NodeId, u32>>,
    /// Files that are called like one of a few names, by their paths.
    called: OnceCell<Vec<String>>,
}

/// What was looked for in the registry, and what was found.
#[derive(Debug, Default)]
struct Mentioned {
    needles: BTreeSet<String>,
    hits: BTreeSet<(KeyId, Option<usize>)>,
}

/// Whose a place is, by what is registered.
#[derive(Debug, Default)]
pub(super) struct Owners {
    /// Other products by the folders, folded, that their registrations name.
    pub folders: HashMap<String, usize>,
    /// Products by the files that are key paths of their components.
    pub parts: HashMap<NodeId, Vec<Guid>>,
}

/// The survey with all that is known of the subject, ready for rules.
pub struct Scene<'s> {
    /// The machine.
    pub survey: &'s Survey,
    /// What the package installer has registered.
    pub registered: &'s Registered,
    /// Who is looked for.
    pub subject: &'s Subject,
    /// Other products in the list of programs.
    pub others: Vec<Other>,
    /// What may be taken at all.
    pub permits: Permits<'s>,
    units: Units,
    owners: OnceCell<Owners>,
    mentioned: RefCell<Mentioned>,
    /// Folders, folded, that registrations of the subject name as where it is installed.
    pub(super) install_folders: BTreeSet<String>,
    /// Folders, folded, in which programs of all publishers keep their own.
    pub(super) roots: BTreeSet<String>,
    /// Names of the subject as they are written.
    pub(super) spelled: Vec<String>,
    names: Vec<String>,
    folder_names: Vec<String>,
    short_names: Vec<String>,
    publishers: Vec<String>,
}

impl<'s> Scene<'s> {
    /// Prepares the names.
    pub fn new(survey: &'s Survey, registered: &'s Registered, subject: &'s Subject) -> Self {
        let all_names: Vec<Vec<String>> = subject
            .all(AnchorKind::Name)
            .chain(subject.all(AnchorKind::EarlierName))
            .chain([subject.name.as_str()])
            .map(product_words)
            .collect();
        let names = sorted(all_names.iter().map(|words| together(words)));
        let folder_names = sorted(subject.all(AnchorKind::FolderName).map(squashed));
        let brand = shared_beginning(&all_names);
        let short = all_names.iter().filter(|words| brand > 0 && words.len() > brand);
        let publisher_first: Vec<String> = subject
            .all(AnchorKind::Publisher)
            .chain([subject.publisher.as_str()])
            .filter_map(|name| publisher_words(name).first().cloned())
            .collect();
        // The first of three words, or the publisher's own, is a brand, which folders may leave out.
        let unbranded = all_names.iter().filter(|words| {
            words.len() >= 3 || words.len() == 2 && words.first().is_some_and(|first| publisher_first.contains(first))
        });
        let short_names = short.map(|words| &words[brand..]).chain(unbranded.map(|words| &words[1..]));
        let short_names: Vec<&[String]> = short_names.collect();
        let short_spelled: Vec<String> =
            short_names.iter().flat_map(|words| [words.join(" "), together(words)]).collect();
        let short_names = sorted(short_names.into_iter().map(together));
        let publishers =
            sorted(subject.all(AnchorKind::Publisher).chain([subject.publisher.as_str()]).flat_map(|name| {
                let words = publisher_words(name);
                [together(&words), words.first().cloned().unwrap_or_default()]
            }));
        let spelled = subject.all(AnchorKind::Name).chain(subject.all(AnchorKind::EarlierName));
        let spelled = spelled.chain(subject.all(AnchorKind::FolderName)).chain([subject.name.as_str()]);
        let mut spelled: Vec<String> = spelled.map(str::to_owned).collect();
        spelled.extend(short_spelled);
        spelled.extend(all_names.iter().map(|words| together(words)));
        let install_folders = subject.all(AnchorKind::InstallFolder).map(fold).collect();
        let mut scene = Self {
            survey,
            registered,
            subject,
            others: Vec::new(),
            permits: Permits::of(survey),
            units: Units::default(),
            owners: OnceCell::new(),
            mentioned: RefCell::default(),
            install_folders,
            roots: roots(survey),
            spelled,
            names,
            folder_names,
            short_names,
            publishers,
        };
        scene.others = scene.find_others();
        scene
    }

    /// Whether this name is the subject's or a predecessor's, whatever version stands behind it.
    pub fn is_subject_name(&self, name: &str) -> bool {
        self.names.contains(&together(&product_words(name)))
    }

    /// The whole names of the subject and of its publisher, as they are written.
    pub fn full_names(&self) -> impl Iterator<Item = &str> {
        let subject = self.subject;
        let names = subject.all(AnchorKind::Name).chain(subject.all(AnchorKind::EarlierName));
        names.chain(subject.all(AnchorKind::Publisher)).chain([subject.name.as_str(), subject.publisher.as_str()])
    }

    /// How well a folder's or key's name names the subject.
    pub fn fit(&self, name: &str) -> Option<NameFit> {
        self.fit_unless(name, |_| true)
    }

    /// The same in a folder of the subject's publisher, where products of others do not live.
    pub fn fit_at_publisher(&self, name: &str) -> Option<NameFit> {
        let own = publisher_words(&self.subject.publisher);
        self.fit_unless(name, |other| {
            let words = publisher_words(&other.publisher);
            // Nobody knows whose it is, or it is of somebody whose folder may have the same name.
            words.is_empty() || words.first() == own.first() || self.is_publisher_name(&other.publisher)
        })
    }

    /// How well a name names the subject, where it may also name some of the others.
    fn fit_unless(&self, name: &str, lives_there: impl Fn(&Other) -> bool) -> Option<NameFit> {
        let squashed = squashed(name);
        let unversioned = together(&product_words(name));
        if squashed.is_empty() {
            return None;
        }
        let among = |names: &[String]| names.contains(&squashed) || names.contains(&unversioned);
        if among(&self.names) {
            Some(NameFit::Full)
        } else if self.others.iter().any(|other| lives_there(other) && other.may_be_called(&unversioned)) {
            // It is the name of another product, or that without its brand.
            None
        } else if among(&self.folder_names) {
            Some(NameFit::Folder)
        } else if among(&self.short_names) {
            Some(NameFit::Short)
        } else {
            None
        }
    }

    /// Whether the name is a variant of the publisher's.
    pub fn is_publisher(&self, name: &str) -> bool {
        self.publishers.contains(&squashed(name))
    }

    /// Whether the name is the publisher's own, in whatever form of company it is written.
    pub fn is_publisher_name(&self, name: &str) -> bool {
        !name.is_empty() && self.publishers.contains(&together(&publisher_words(name)))
    }

    /// Whether another product in the list of programs is by the same publisher, or may be: a hive that could
    /// not be read may list one.
    pub fn publisher_has_others(&self) -> bool {
        let is_hive = |what: &str| {
            let folded = fold(what);
            let is_file = ["NTUSER.DAT", "SOFTWARE"].contains(&path::leaf(&folded));
            is_file || folded.starts_with("HKU\\") || folded.starts_with("HKLM\\")
        };
        self.others.iter().any(|other| self.is_publisher_name(&other.publisher))
            || self.survey.gaps.iter().any(|gap| is_hive(&gap.what))
    }

    /// Whether the name is the product's whole name, or that with words behind it that name a part
    /// of a product, as those of tasks and classes have.
    pub fn begins_with_subject(&self, name: &str) -> bool {
        let squashed = squashed(name);
        let rest_of = |own: &String| squashed.strip_prefix(own.as_str()).filter(|_| own.chars().count() >= TELLING);
        self.names.iter().filter_map(rest_of).any(names_a_part)
    }

    /// Keys and values that mention any of these texts; each text is looked for once.
    pub fn mentions(&self, needles: Vec<String>) -> Vec<(KeyId, Option<usize>)> {
        let mut known = self.mentioned.borrow_mut();
        let mut needles: Vec<String> = needles.iter().map(|needle| needle.to_ascii_lowercase()).collect();
        needles.sort_by_key(String::len);
        let mut fresh: Vec<String> = Vec::new();
        for needle in needles {
            // What holds a text holds every part of it.
            if !known.needles.iter().any(|part| needle.contains(part.as_str())) {
                known.needles.insert(needle.clone());
                fresh.push(needle);
            }
        }
        let hits = mentions(&self.survey.registry, &fresh);
        known.hits.extend(hits);
        drop(known);
        self.mentioned_so_far()
    }

    /// What [`mentions`](Self::mentions) has found so far, for whatever rule.
    pub fn mentioned_so_far(&self) -> Vec<(KeyId, Option<usize>)> {
        self.mentioned.borrow().hits.iter().copied().collect()
    }

    /// All scheduled tasks of the machine.
    pub fn tasks(&self) -> &[Task] {
        self.units.tasks.get_or_init(|| units::tasks::tasks(self.survey))
    }

    /// All driver packages that were added to the machine.
    pub fn drivers(&self) -> &[Driver] {
        self.units.drivers.get_or_init(|| units::drivers::drivers(self.survey))
    }

    /// All packages of the store's kind.
    pub fn store_packages(&self) -> &[StorePackage] {
        self.units.store_packages.get_or_init(|| units::store_packages::store_packages(self.survey))
    }

    /// Why the network needs a file, if it does.
    pub fn needed_by_network(&self, file: NodeId) -> Option<&'static str> {
        let needed = self.units.needed.get_or_init(|| {
            let files = self.permits.needed_by_network().into_iter();
            files.filter_map(|(path, why)| Some((self.survey.entry(&path)?, why))).collect()
        });
        needed.get(&file).copied()
    }

    /// How many products share a file, by what they have counted.
    pub fn count_of(&self, file: NodeId) -> Option<u32> {
        let counts = self.units.counts.get_or_init(|| {
            let registry = &self.survey.registry;
            let environment = self.survey.environment(None);
            let mut found: HashMap<NodeId, u32> = HashMap::new();
            for view in self.survey.facts.software_views() {
                let key = registry.key(&format!("{view}\\Microsoft\\Windows\\CurrentVersion\\SharedDLLs"));
                for value in key.into_iter().flat_map(|key| registry.values(key)) {
                    let file = self.survey.entry(&path::plain(value.name, &environment));
                    if let Some((file, count)) = file.zip(value.dword()) {
                        *found.entry(file).or_default() += count;
                    }
                }
            }
            found
        });
        counts.get(&file).copied()
    }

    /// Whose paths are, by what is registered.
    pub(super) fn owners(&self) -> &Owners {
        self.owners.get_or_init(|| {
            let mut owners = Owners::default();
            for (number, other) in self.others.iter().enumerate() {
                for folder in &other.folders {
                    owners.folders.entry(fold(folder)).or_insert(number);
                }
            }
            for (code, path) in self.registered.components.values().flatten() {
                if let Some(file) = self.survey.files.find(path) {
                    owners.parts.entry(file).or_default().push(*code);
                }
            }
            owners
        })
    }

    /// Every file on the disk that has one of these names; all callers ask for the same ones.
    pub fn files_called<'n>(&self, names: impl Iterator<Item = &'n str>) -> &[String] {
        self.units.called.get_or_init(|| {
            let names: HashSet<String> = names.map(fold).collect();
            let lengths: HashSet<usize> = names.iter().map(String::len).collect();
            let files = &self.survey.files;
            // Most names differ in length already.
            let is_it =
                |at: &NodeId| lengths.contains(&files.name(*at).len()) && names.contains(&fold(files.name(*at)));
            let is_file = |at: &NodeId| files.data(*at).kind == EntryKind::File;
            files.all().filter(is_it).filter(is_file).map(|at| files.path(at)).collect()
        })
    }

    /// All rules of the firewall.
    pub fn firewall_rules(&self) -> &[FirewallRule] {
        self.units.firewall_rules.get_or_init(|| self.survey.firewall_rules())
    }

    /// The key in the list of programs, if it is the subject's.
    pub fn is_subject_entry(&self, key: KeyId) -> bool {
        let registry = &self.survey.registry;
        let codes = [AnchorKind::ProductCode, AnchorKind::EarlierProduct].map(|kind| self.subject.codes(kind)).concat();
        let by_code = registry.name(key).parse().is_ok_and(|code| codes.contains(&code));
        by_code || registry.text(key, "DisplayName").is_some_and(|name| self.is_subject_name(&name))
    }

    /// A program named in a command line, as that machine or user would find it.
    pub fn program(&self, command: &str, user: Option<&User>) -> Option<String> {
        let exists = |path: &str| self.survey.has_file(path);
        path::program_of(command, &self.survey.environment(user), &exists)
    }

    /// The user whose registry or profile a path lies in.
    pub fn user_of(&self, path: &str) -> Option<&'s User> {
        let inside =
            |user: &&User| path::is_inside_or_same(path, &user.hive()) || path::is_inside_or_same(path, &user.profile);
        self.survey.facts.users.iter().find(inside)
    }

    fn find_others(&self) -> Vec<Other> {
        let registry = &self.survey.registry;
        let mut others = Vec::new();
        for list in uninstall_keys(self.survey) {
            for key in registry.subkeys(&list) {
                let Some(name) = registry.text(key, "DisplayName") else { continue };
                if self.is_subject_entry(key) {
                    continue;
                }
                let mut folders: Vec<String> = Vec::new();
                if let Some(folder) = registry.text(key, "InstallLocation").filter(|folder| folder.len() > 3) {
                    folders.push(folder.trim_end_matches('\\').to_owned());
                }
                if let Some(icon) = registry.text(key, "DisplayIcon")
                    && let Some(folder) = path::parent(icon.split(',').next().unwrap_or(&icon).trim_matches('"'))
                {
                    folders.push(folder.to_owned());
                }
                if let Ok(code) = registry.name(key).parse()
                    && let Some(product) = self.registered.products.get(&code)
                {
                    folders.extend(product.location.as_deref().map(|folder| folder.trim_end_matches('\\').to_owned()));
                    folders.extend(product.files().filter_map(path::parent).map(str::to_owned));
                }
                folders.retain(|folder| !crate::permits::is_shared_root(folder, &self.survey.facts));
                folders.sort();
                folders.dedup();
                let publisher = registry.text(key, "Publisher").unwrap_or_default();
                others.push(Other { name, publisher, folders, entry: registry.path(key) });
            }
        }
        others
    }
}

fn sorted(names: impl Iterator<Item = String>) -> Vec<String> {
    let mut names: Vec<String> = names.filter(|name| !name.is_empty()).collect();
    names.sort();
    names.dedup();
    names
}

/// Number of first words that two different names have in common: the brand.
fn shared_beginning(names: &[Vec<String>]) -> usize {
    let mut shared = 0;
    for (at, one) in names.iter().enumerate() {
        for other in names[at + 1..].iter().filter(|other| *other != one) {
            let common = one.iter().zip(other.iter()).take_while(|(a, b)| a == b).count();
            shared = shared.max(common);
        }
    }
    shared
}
