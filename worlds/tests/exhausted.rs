//! Every key, value and service of real hives, asked whether it may be taken, under each kind of place.
//!
//! `scripts/sample-hives.sh` fetches the hives. Whose a key is, they tell by themselves: Windows' setup writes its
//! own keys in one go, and the key's time says when. What is installed later has another time. The few keys of
//! other makers among them were looked at, and stand below by a digest of their names.

#![allow(clippy::disallowed_methods, clippy::print_stderr, clippy::print_stdout)]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use stubble_core::model::text::fold;
use stubble_core::model::{Place, PlaceKind, list};
use stubble_core::permits::Permits;
use stubble_core::permits::spelling::Listed;
use stubble_core::survey::{KeyId, Survey};
use stubble_machine::Observe;
use stubble_machine::disk::Disk;

/// In a test run each of so many keys is asked; `STUBBLE_PROOF=all` asks all of them.
const STRIDE: usize = 23;

/// Days since 1970 on which the images were made that these hives come from.
const IMAGES: [u64; 3] = [14_439, 14_933, 14_934];

/// Names of publishers, services and classes that are others' than Windows', as CRC-32 of the folded name: looked at
/// one by one.
const OF_OTHERS: &str = include_str!("others.txt");

pub fn hives() -> Option<PathBuf> {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    let found = here.ancestors().map(|folder| folder.join("target/sample-hives")).find(|folder| folder.is_dir());
    if found.is_none() {
        assert!(std::env::var_os("STUBBLE_JUDGES").is_none(), "scripts/sample-hives.sh was not run");
        eprintln!("skipped: there are no sample hives; scripts/sample-hives.sh fetches them");
    }
    found
}

/// A disk that has nothing but these hives.
pub fn disk(hives: &Path) -> (tempfile::TempDir, Survey) {
    let files = [
        ("SOFTWARE", "Windows/System32/config/SOFTWARE"),
        ("SYSTEM", "Windows/System32/config/SYSTEM"),
        ("WIN7-NTUSER.DAT", "Users/rosa/NTUSER.DAT"),
    ];
    let folder = tempfile::tempdir().unwrap();
    for (from, to) in files {
        let to = folder.path().join(to);
        fs::create_dir_all(to.parent().unwrap()).unwrap();
        fs::copy(hives.join(from), to).unwrap();
    }
    let survey = Disk::mounted(folder.path()).unwrap().survey().unwrap();
    (folder, survey)
}

/// All places that a key can be taken for, with those of its values.
fn places(survey: &Survey, key: KeyId) -> Vec<Place> {
    let registry = &survey.registry;
    let path = registry.path(key);
    let mut found: Vec<Place> =
        [PlaceKind::Key, PlaceKind::Folder, PlaceKind::Driver].map(|kind| Place::new(kind, path.as_str())).into();
    if Listed::read(&path).parts.len() == 5 && fold(&path).contains("\\SERVICES\\") {
        found.push(Place::new(PlaceKind::Service, registry.name(key)));
    }
    for value in registry.values(key) {
        let kinds = [PlaceKind::Value, PlaceKind::Startup, PlaceKind::FirewallRule, PlaceKind::SharedCount];
        found.extend(kinds.map(|kind| Place { kind, ..Place::value(path.as_str(), value.name) }));
        let entries = list::entries(value.name, value.kind, value.data);
        found.extend(entries.into_iter().map(|entry| Place::list_entry(path.as_str(), value.name, entry)));
    }
    found
}

fn day(survey: &Survey, key: KeyId) -> u64 {
    (survey.registry.keys().data(key).last_written.0 / 10_000_000).saturating_sub(11_644_473_600) / 86_400
}

/// The name by which a place is known as somebody's: the publisher's key, the service, the class.
fn name_of(place: &Place) -> String {
    if place.kind == PlaceKind::Service {
        return fold(&place.path);
    }
    let parts = Listed::read(&place.path).parts;
    let at = match parts.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        ["HKLM", "SYSTEM", _, "SERVICES", ..] => 4,
        ["HKU", ..] => 3,
        ["<CLASSES>", "CLSID" | "TYPELIB" | "INTERFACE" | "APPID" | "APPLICATIONS" | "INSTALLER", ..] => 2,
        ["<CLASSES>", ..] => 1,
        _ => 2,
    };
    parts.get(at).cloned().unwrap_or_default()
}

#[test]
fn nothing_of_windows_in_real_hives_may_be_taken() {
    let Some(hives) = hives() else { return };
    let all = std::env::var("STUBBLE_PROOF").is_ok_and(|proof| proof == "all");
    let others: BTreeSet<&str> = OF_OTHERS.lines().collect();
    let (_folder, survey) = disk(&hives);
    let permits = Permits::of(&survey);
    let (mut asked, mut allowed) = (0u64, 0u64);
    let mut wrong: BTreeMap<String, String> = BTreeMap::new();
    let keys: Vec<KeyId> = survey.registry.keys().all().collect();
    for key in keys.into_iter().step_by(if all { 1 } else { STRIDE }) {
        for place in places(&survey, key) {
            asked += 1;
            let Ok(permit) = permits.ask(&place) else { continue };
            allowed += 1;
            let name = name_of(&place);
            let is_image = IMAGES.contains(&day(&survey, key));
            let is_told = others.contains(format!("{:08x}", crc32fast::hash(name.as_bytes())).as_str());
            // Below a class of somebody else's Windows may have written something before.
            let is_wrong = is_image && place.path.matches('\\').count() <= 4 || needs_name(&place) && !is_told;
            if is_wrong {
                wrong.entry(name).or_insert_with(|| format!("{} ({:?}): {}", place, place.kind, permit.what));
            }
        }
    }
    println!("{asked} places asked, {allowed} may go");
    let shown: Vec<String> =
        wrong.iter().map(|(name, text)| format!("{:08x} {text}", crc32fast::hash(name.as_bytes()))).collect();
    assert!(wrong.is_empty(), "{} names that nobody has looked at:\n{}", wrong.len(), shown.join("\n"));
    assert!(asked > 50_000, "{asked}");
}

/// Whether a place goes by a name alone, so that somebody must have looked at that name.
fn needs_name(place: &Place) -> bool {
    let parts = Listed::read(&place.path).parts;
    let names: Vec<&str> = parts.iter().map(String::as_str).collect();
    place.kind == PlaceKind::Service
        || matches!(names[..], ["HKLM", "SOFTWARE", name, ..] if name != "MICROSOFT")
        || matches!(names[..], ["HKU", _, "SOFTWARE", name, ..] if name != "MICROSOFT")
        || matches!(names[..], ["HKLM", "SYSTEM", _, "SERVICES", ..])
        || matches!(names[..], ["<CLASSES>", name] if !name.starts_with('.'))
}
