//! Who is meant: from a carelessly typed name to one subject, or to a list of candidates.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::names::{product_words, publisher_words, squashed, together};
use super::predecessor::is_predecessor;
use super::{Anchor, AnchorKind, Scope, Subject};
use crate::content::Content;
use crate::model::text::fold;
use crate::model::{Guid, Place, path};
use crate::packages::registered::uninstall_keys;
use crate::packages::{Package, Product, Registered};
use crate::permits::Permits;
use crate::permits::windows::is_store_package;
use crate::survey::Survey;
use crate::trace::roots;
use crate::units::store_packages::store_packages;

/// The product that our own program says it is a part of, folded.
const OWN_NAME: &str = "STUBBLE";

/// An installer package that was found, with its path.
#[derive(Debug)]
pub struct PackageFile {
    /// Where it lies.
    pub path: String,
    /// Its tables.
    pub package: Package,
    /// Whether it lies inside a setup program, which then is what the path names.
    pub carried: bool,
}

/// One product that the typed name could mean.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Candidate {
    /// Its name.
    pub name: String,
    /// Its publisher.
    pub publisher: String,
    /// Where it was met.
    pub from: Vec<String>,
}

/// The answer.
#[derive(Debug)]
pub enum Identified {
    /// Exactly one product is meant.
    One(Box<Subject>),
    /// Several could be; none is guessed.
    Several(Vec<Candidate>),
    /// A publisher is named and no product; these are its products.
    Publisher(Vec<Candidate>),
    /// None fits; these are the names that the machine knows.
    Unknown(Vec<String>),
}

/// Everything that the machine and the packages on it say of one product.
#[derive(Debug, Default)]
pub(super) struct Known {
    pub(super) name: String,
    pub(super) publisher: String,
    anchors: Vec<Anchor>,
    from: Vec<String>,
    /// Folders and keys that are called so.
    places: Vec<String>,
    /// Whether only the store's packages tell of it. Such a package may be a part of a product that others tell of.
    is_of_store: bool,
}

impl Known {
    /// Whether one of its folders lies where programs are installed.
    fn has_programs(&self, survey: &Survey) -> bool {
        let facts = &survey.facts;
        let users = facts.users.iter().map(|user| format!("{}\\Programs", user.local()));
        let tops: Vec<String> = facts.program_folders().into_iter().map(str::to_owned).chain(users).collect();
        self.places.iter().any(|place| tops.iter().any(|top| path::is_inside_or_same(place, top)))
    }

    fn candidate(&self) -> Candidate {
        Candidate { name: self.name.clone(), publisher: self.publisher.clone(), from: self.from.clone() }
    }

    /// Whether a folder or key is this product's: its install folder, or in its publisher's.
    fn owns(&self, place: &str) -> bool {
        let words = publisher_words(&self.publisher);
        let names = [together(&words), words.first().cloned().unwrap_or_default()];
        let is_install =
            |anchor: &Anchor| anchor.kind == AnchorKind::InstallFolder && fold(&anchor.value) == fold(place);
        let above = path::parent(place).map(|above| squashed(path::leaf(above))).unwrap_or_default();
        self.anchors.iter().any(is_install) || !above.is_empty() && names.contains(&above)
    }
}

/// Finds the product that `wanted` means.
pub fn identify(survey: &Survey, registered: &Registered, packages: &[PackageFile], wanted: &str) -> Identified {
    let known = gather(survey, registered, packages);
    let words = product_words(wanted);
    let typed = together(&words);
    let fits_typed = |one: &&Known| fits(&words, one);
    // A publisher's name alone says which of its products is meant only where one of them is called so.
    if !known.contains_key(&typed) {
        let is_named = |one: &&Known| is_publisher_of(&words, one);
        let all: Vec<&Known> = known.values().filter(|one| is_named(one) || fits_typed(one)).collect();
        if all.iter().any(is_named) {
            return Identified::Publisher(all.into_iter().map(Known::candidate).collect());
        }
    }
    // What a known product explains is no product of its own.
    let explained = |place: &String| known.values().filter(fits_typed).any(|one| one.owns(place));
    let quiet = quietly(survey, &words).map(|mut quiet| {
        quiet.places.retain(|place| !explained(place));
        quiet
    });
    let quiet = quiet.filter(|quiet| !quiet.places.is_empty());
    let fitting: Vec<&Known> = match (known.get(&typed), &quiet) {
        (Some(one), _) => vec![one],
        // Written as the folder is, it can only mean that.
        (None, Some(one)) if one.name == wanted.trim() => vec![one],
        (None, quiet) => {
            let listed = known.values().filter(fits_typed).filter(|one| !goes_on(&words, &one.name));
            let mut all: Vec<&Known> = listed.collect();
            match quiet {
                Some(one) if all.is_empty() || one.has_programs(survey) => all.push(one),
                Some(_) => {}
                None => all = known.values().filter(fits_typed).collect(),
            }
            all
        }
    };
    let is_told = fitting.iter().any(|one| !one.is_of_store);
    let fitting: Vec<&Known> = fitting.into_iter().filter(|one| !(is_told && one.is_of_store)).collect();
    // A longer name is another product's as long as nobody says otherwise.
    let is_longer = |one: &Known| !known.contains_key(&typed) && goes_on(&words, &one.name);
    match fitting.as_slice() {
        [] => Identified::Unknown(known.values().map(|one| one.name.clone()).collect()),
        [one] if !is_longer(one) => Identified::One(Box::new(complete(survey, one, registered, packages))),
        several => Identified::Several(several.iter().map(|one| one.candidate()).collect()),
    }
}

/// Every typed word begins a word of the name or, as people say both together, of the publisher's; one at least is of
/// the name.
fn fits(typed: &[String], one: &Known) -> bool {
    let (words, makers) = (product_words(&one.name), publisher_words(&one.publisher));
    let begins = |all: &[String], word: &str| all.iter().any(|other| other.starts_with(word));
    typed.iter().any(|word| begins(&words, word))
        && typed.iter().all(|word| begins(&words, word) || makers.iter().any(|other| other == word))
}

/// Whether the typed words are the publisher's name, as it is registered or without its last words.
fn is_publisher_of(typed: &[String], one: &Known) -> bool {
    !typed.is_empty() && publisher_words(&one.publisher).starts_with(typed)
}

/// Whether the name has words behind the last one that was typed.
fn goes_on(typed: &[String], name: &str) -> bool {
    let words = product_words(name);
    let last = typed.last().and_then(|typed| words.iter().rposition(|word| word.starts_with(typed.as_str())));
    last.is_some_and(|last| last + 1 < words.len())
}

/// A product of which only folders or keys tell the name: exactly the one that was typed, alone or behind its
/// publisher's. What Windows and everybody keep things in is neither a product nor a publisher: what may never be taken
/// names nobody.
fn quietly(survey: &Survey, typed: &[String]) -> Option<Known> {
    let wanted = together(typed);
    let is_it = |name: &str| !wanted.is_empty() && together(&product_words(name)) == wanted;
    let are_both = |publisher: &str, name: &str| {
        let (publisher, name) = (together(&publisher_words(publisher)), together(&product_words(name)));
        !publisher.is_empty() && !name.is_empty() && wanted.strip_prefix(&publisher) == Some(&name)
    };
    let permits = Permits::of(survey);
    let files = &survey.files;
    let mut found = Known::default();
    let mut add = |name: &str, publisher: &str, place: &str| {
        if found.name.is_empty() {
            found.name = plain_name(name, &product_words(name));
        }
        if found.publisher.is_empty() {
            found.publisher = publisher.to_owned();
        }
        let from = format!("the name of {place}");
        let anchor = |kind, value: &str| Anchor { kind, value: value.to_owned(), from: from.clone() };
        found.anchors.extend([anchor(AnchorKind::FolderName, name), anchor(AnchorKind::Publisher, publisher)]);
        found.anchors.retain(|anchor| !anchor.value.is_empty());
        found.from.push(from);
        found.places.push(place.to_owned());
    };
    // A folder or key where publishers have theirs, and the names of what lies in it.
    let mut look = |name: &str, place: Place, inner: &mut dyn Iterator<Item = &str>| {
        let inner: Vec<&str> = inner.filter(|inner| is_it(inner) || are_both(name, inner)).collect();
        if inner.is_empty() && !is_it(name) || permits.ask(&place).is_err() {
            return;
        }
        if is_it(name) {
            add(name, "", &place.path);
        }
        for inner in inner {
            add(inner, name, &path::join(&place.path, inner));
        }
    };
    for root in roots(survey) {
        let Some(root) = files.find(&root) else { continue };
        for child in files.children(root) {
            let mut inner = files.children(child).map(|inner| files.name(inner));
            look(files.name(child), Place::folder(files.path(child)), &mut inner);
        }
    }
    let users = survey.facts.users.iter().map(|user| format!("{}\\SOFTWARE", user.hive()));
    let registry = &survey.registry;
    for root in survey.facts.software_views().into_iter().map(str::to_owned).chain(users) {
        for key in registry.subkeys(&root) {
            let mut inner = registry.keys().children(key).map(|inner| registry.name(inner));
            look(registry.name(key), Place::key(registry.path(key)), &mut inner);
        }
    }
    (!found.from.is_empty()).then_some(found)
}

/// Adds what one source says of a product.
fn add_to(
    known: &mut BTreeMap<String, Known>,
    name: &str,
    publisher: &str,
    from: &str,
    anchors: Vec<(AnchorKind, String)>,
) {
    let words = product_words(name);
    if words.is_empty() {
        return;
    }
    let one = known.entry(together(&words)).or_default();
    if one.name.is_empty() {
        one.name = plain_name(name, &words);
    }
    if one.publisher.is_empty() {
        one.publisher = publisher.to_owned();
    }
    one.anchors.extend(anchors.into_iter().filter(|(_, value)| !value.is_empty()).map(|(kind, value)| Anchor {
        kind,
        value,
        from: from.to_owned(),
    }));
    one.from.push(from.to_owned());
}

pub(super) fn gather(survey: &Survey, registered: &Registered, packages: &[PackageFile]) -> BTreeMap<String, Known> {
    let mut known: BTreeMap<String, Known> = BTreeMap::new();
    let registry = &survey.registry;
    for list in uninstall_keys(survey) {
        for key in registry.subkeys(&list) {
            let Some(name) = registry.text(key, "DisplayName") else { continue };
            let publisher = registry.text(key, "Publisher").unwrap_or_default();
            let folder = registry.text(key, "InstallLocation").unwrap_or_default();
            let mut anchors = vec![
                (AnchorKind::Publisher, publisher.clone()),
                (AnchorKind::FolderName, path::leaf(folder.trim_end_matches('\\')).to_owned()),
                (AnchorKind::InstallFolder, folder.trim_end_matches('\\').to_owned()),
            ];
            anchors.extend(file_types(survey, &folder).map(|extension| (AnchorKind::FileType, extension)));
            if let Ok(code) = registry.name(key).parse::<Guid>() {
                anchors.push((AnchorKind::ProductCode, code.to_string()));
            }
            add_to(&mut known, &name, &publisher, "the list of programs", anchors);
        }
    }
    for (code, product) in &registered.products {
        let folder = product.location.as_deref().unwrap_or_default().trim_end_matches('\\');
        let mut anchors = vec![
            (AnchorKind::ProductCode, code.to_string()),
            (AnchorKind::Publisher, product.publisher.clone()),
            (AnchorKind::FolderName, path::leaf(folder).to_owned()),
            (AnchorKind::InstallFolder, folder.to_owned()),
        ];
        anchors.extend(product.upgrade_codes.iter().map(|code| (AnchorKind::UpgradeCode, code.to_string())));
        let from = "the package installer's registrations";
        add_to(&mut known, &product.name, &product.publisher, from, anchors);
    }
    for told in &survey.contents {
        let from = || format!("the file {}", survey.files.path(told.file));
        match &told.content {
            // We lie on the machine as well, and are no product of its.
            Content::Program(version) if fold(&version.product) == OWN_NAME => {}
            Content::Program(version) => {
                let anchors = vec![(AnchorKind::Publisher, version.company.clone())];
                add_to(&mut known, without_setup(&version.product), &version.company, &from(), anchors);
            }
            Content::Package(package) => {
                let anchors = vec![
                    (AnchorKind::ProductCode, package.code.clone()),
                    (AnchorKind::UpgradeCode, package.upgrade.clone()),
                    (AnchorKind::Publisher, package.manufacturer.clone()),
                ];
                add_to(&mut known, &package.name, &package.manufacturer, &from(), anchors);
            }
            Content::Task(_) | Content::Patch(_) | Content::Inf(_) => {}
        }
    }
    for file in packages {
        let package = &file.package;
        let mut anchors = vec![
            (AnchorKind::ProductCode, package.product_code.to_string()),
            (AnchorKind::Publisher, package.manufacturer.clone()),
            (AnchorKind::Payload, file.path.clone()),
        ];
        anchors.extend(package_file_types(package).map(|extension| (AnchorKind::FileType, extension)));
        anchors.extend(package.upgrade_code.map(|code| (AnchorKind::UpgradeCode, code.to_string())));
        add_to(&mut known, &package.name, &package.manufacturer, &format!("the package {}", file.path), anchors);
    }
    let told: BTreeSet<String> = known.keys().cloned().collect();
    for package in store_packages(survey).into_iter().filter(|one| !is_store_package(&one.full_name)) {
        // Where what people call it stands in a resource, its own name is what there is.
        let own_name = package.full_name.split('_').next().unwrap_or_default();
        let (publisher, name) = match package.title.as_str() {
            "" => own_name.split_once('.').unwrap_or(("", own_name)),
            title => ("", title),
        };
        let anchors = vec![(AnchorKind::Publisher, publisher.to_owned())];
        add_to(&mut known, name, publisher, &format!("the store package {}", package.full_name), anchors);
    }
    for (name, one) in &mut known {
        one.is_of_store = !told.contains(name);
    }
    known
}

/// A product's name without the word by which its setup programs go on.
fn without_setup(name: &str) -> &str {
    let ends = ["setup", "installer", "uninstaller", "install"];
    match name.trim_end().rsplit_once(' ') {
        Some((product, last)) if ends.contains(&last.to_lowercase().as_str()) => product.trim_end(),
        _ => name,
    }
}

/// Extensions that a package registers for its product.
fn package_file_types(package: &Package) -> impl Iterator<Item = String> + '_ {
    const CLASSES: i32 = 0;
    let rows = package.registry.iter().filter(|row| row.root == CLASSES && !row.key.contains('\\'));
    rows.filter_map(|row| row.key.strip_prefix('.')).map(str::to_owned)
}

/// Extensions that open with a program in a folder.
fn file_types<'s>(survey: &'s Survey, folder: &'s str) -> impl Iterator<Item = String> + 's {
    let inside = move |program: &str| folder.len() > 3 && path::is_inside_or_same(program, folder);
    opened_with(survey).into_iter().filter(move |(_, program)| inside(program)).map(|(extension, _)| extension)
}

/// Every registered extension with the program that opens it.
pub fn opened_with(survey: &Survey) -> Vec<(String, String)> {
    let registry = &survey.registry;
    let environment = survey.environment(None);
    let mut found = Vec::new();
    for root in ["HKLM\\SOFTWARE\\Classes", "HKLM\\SOFTWARE\\WOW6432Node\\Classes"] {
        for key in registry.subkeys(root) {
            let Some(extension) = registry.name(key).strip_prefix('.') else { continue };
            let Some(class) = registry.text(key, "") else { continue };
            let command = registry.key(&format!("{root}\\{class}\\shell\\open\\command"));
            let Some(command) = command.and_then(|key| registry.text(key, "")) else { continue };
            if let Some(program) = path::program_of(&command, &environment, &|path| survey.has_file(path)) {
                found.push((extension.to_owned(), program));
            }
        }
    }
    found
}

/// The name as written, cut behind its last telling word.
fn plain_name(name: &str, words: &[String]) -> String {
    let kept: Vec<&str> = name
        .split_whitespace()
        .filter(|part| {
            let own = product_words(part);
            !own.is_empty() && own.iter().all(|word| words.contains(word))
        })
        .collect();
    kept.join(" ")
}

/// Adds the predecessors that the product's own packages look for.
pub(super) fn complete(survey: &Survey, one: &Known, registered: &Registered, packages: &[PackageFile]) -> Subject {
    let mut anchors = one.anchors.clone();
    anchors.push(Anchor { kind: AnchorKind::Name, value: one.name.clone(), from: one.from[0].clone() });
    let own: Vec<String> = anchors
        .iter()
        .filter(|anchor| anchor.kind == AnchorKind::UpgradeCode)
        .map(|anchor| anchor.value.clone())
        .collect();
    let payloads: Vec<&PackageFile> = packages
        .iter()
        .filter(|file| anchors.iter().any(|anchor| anchor.kind == AnchorKind::Payload && anchor.value == file.path))
        .collect();
    let mut earlier = Vec::new();
    for file in payloads {
        let others = file.package.upgrades.iter().filter(|upgrade| !own.contains(&upgrade.code.to_string()));
        for upgrade in others {
            let from = format!("the upgrade table of {}", file.path);
            let mut add = |kind, value: String| earlier.push(Anchor { kind, value, from: from.clone() });
            let related: Vec<_> = registered.related(upgrade.code).collect();
            let is_part = |product: &Product| is_predecessor(survey, !upgrade.only_detect, &one.publisher, product);
            if related.iter().all(|(_, product)| is_part(product)) {
                add(AnchorKind::EarlierUpgradeCode, upgrade.code.to_string());
            }
            for (code, product) in related {
                if !is_part(product) {
                    add(AnchorKind::Detected, code.to_string());
                    continue;
                }
                add(AnchorKind::EarlierProduct, code.to_string());
                if !product.name.is_empty() {
                    add(AnchorKind::EarlierName, product.name.clone());
                }
            }
        }
    }
    anchors.extend(earlier);
    anchors.sort();
    anchors.dedup_by(|a, b| a.kind == b.kind && a.value == b.value);
    Subject { name: one.name.clone(), publisher: one.publisher.clone(), scope: Scope::Product, anchors }
}
