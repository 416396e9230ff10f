//! The bench's installer engine: what it installs, replaces and refuses.

// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

use std::collections::BTreeSet;

use stubble_core::confirm::installed;
use stubble_core::logs;
use stubble_core::packages::layout::Layout;
use stubble_core::packages::predict::{Stop, predict};
use stubble_core::packages::{Package, PackageError, Registered, Search};
use stubble_core::survey::compare::{Difference, compare, count};
use stubble_core::survey::state;
use stubble_machine::bench::world::{PackageSource, build, write_package};
use stubble_machine::bench::{Bench, demo};
use stubble_machine::{Alter, MachineError, Observe};

const COMPUTER: &str = r#"
[computer]
name = "WEIGH-06"
product = "Windows 10 Pro"
version = "10.0.19045"
dated = "2026-02-27T16:40:00Z"
now = "2026-03-02T06:40:00Z"

[[user]]
name = "maren"
sid = "S-1-5-21-6-6-6-1001"
"#;

fn bench(more: &str) -> (tempfile::TempDir, Bench) {
    let folder = tempfile::tempdir().unwrap();
    let world = format!("{COMPUTER}{more}");
    let bench = build(&world, &demo::package, &folder.path().join("bench")).unwrap();
    (folder, bench)
}

fn has(sources: &[&str]) -> String {
    let row = |name: &&str| format!("\n[[installed]]\nsource = \"{name}\"\nfrom = 'C:\\Setup\\{name}.msi'\n");
    sources.iter().map(row).collect()
}

fn lies(source: &str) -> String {
    format!("\n[[package]]\nsource = \"{source}\"\nat = 'C:\\Setup\\{source}.msi'\n")
}

fn bytes(source: &str) -> Vec<u8> {
    let source: PackageSource = toml::from_str(&demo::package(source).unwrap()).unwrap();
    write_package(&source).unwrap()
}

fn check(bench: &Bench, source: &str) -> stubble_core::confirm::Installed {
    let bytes = bytes(source);
    let package = Package::read(&bytes).unwrap();
    let contents = package.contents(&bytes).unwrap();
    let read = |path: &str| bench.read_file(path, 1 << 30).ok();
    installed(&package, &contents, &bench.survey().unwrap(), &read)
}

#[test]
fn a_product_is_looked_for_where_it_was_installed() {
    let (_folder, bench) = bench(
        "[[key]]
         path = 'HKLM\\SYSTEM\\MountedDevices'
         values = { \"\\\\DosDevices\\\\D:\" = { bytes = [1, 2, 3, 4, 0, 0, 16, 0, 0, 0, 0, 0] } }

         [[file]]
         path = 'D:\\Lists\\empty.qwl'

         [[installed]]
         source = \"scale-desk-5.1\"
         from = 'C:\\Setup\\scale-desk-5.1.msi'
         set = { INSTALLFOLDER = 'D:\\Dairy\\Scale Desk\\' }",
    );
    let survey = bench.survey().unwrap();
    assert!(survey.exists("D:\\Dairy\\Scale Desk\\labels\\wheel-6kg.lbl"));
    let installed = check(&bench, "scale-desk-5.1");
    assert!(installed.files == 7 && installed.findings.is_empty(), "{:?}", installed.findings);

    // The next version has nothing registered yet: it goes where its tables say, or where its own search finds the old.
    let mut next = Package::read(&bytes("scale-desk-5.2")).unwrap();
    let registered = Registered::read(&survey);
    let folder = |package: &Package| Layout::on(package, &survey, &registered).folder("INSTALLFOLDER");
    let usual = "C:\\Program Files\\Fennelgate\\Scale Desk";
    assert_eq!(folder(&next), usual);
    let search = |name: &str| Search {
        property: "INSTALLFOLDER".to_owned(),
        root: 2,
        key: "SOFTWARE\\Fennelgate\\Scale Desk".to_owned(),
        name: name.to_owned(),
        is_64: true,
    };
    next.searches = vec![search("InstallDir")];
    assert_eq!(folder(&next), "D:\\Dairy\\Scale Desk");
    next.searches = vec![search("Version")];
    assert_eq!(folder(&next), usual, "what is no path counts for nothing");
}

#[test]
fn a_package_says_what_its_description_said() {
    let bytes = bytes("scale-desk-5.2");
    let package = Package::read(&bytes).unwrap();
    assert_eq!((package.name.as_str(), package.version.to_string().as_str()), ("Quernlight Scale Desk", "5.2.0"));
    assert!(package.is_64 && package.package_code.is_some() && package.upgrade_code.is_some());
    assert_eq!((package.upgrades.len(), package.conditions.len(), package.files.len()), (2, 2, 8));
    assert_eq!(package.not_understood, Vec::<String>::new());
    let contents = package.contents(&bytes).unwrap();
    let sizes: BTreeSet<u64> = contents.values().map(|content| content.len() as u64).collect();
    assert_eq!(sizes, package.files.iter().map(|file| file.size).collect());
    assert!(package.sequence.is_sorted_by_key(|action| action.number));
}

#[test]
fn every_cut_or_changed_package_is_refused_or_read() {
    let bytes = bytes("weigh-3");
    for end in [0, 10, 511, 512, 2000, bytes.len() / 2, bytes.len() - 1] {
        let _ = Package::read(&bytes[..end]).and_then(|package| package.contents(&bytes[..end]).map(drop));
    }
    for at in (0..bytes.len()).step_by(53) {
        let mut changed = bytes.clone();
        changed[at] ^= 0x5A;
        let read = std::panic::catch_unwind(|| {
            if let Ok(package) = Package::read(&changed) {
                let _ = package.contents(&changed);
            }
        });
        assert!(read.is_ok(), "byte {at}");
    }
    assert!(matches!(Package::read(b"MZ, not a package"), Err(PackageError::NotAPackage(_))));
}

#[test]
fn what_the_engine_installs_is_what_the_package_says() {
    for source in ["scale-desk-5.2", "weigh-3", "label-bridge", "recipes", "batch-clock"] {
        let (_folder, bench) = bench(&lies(source));
        let run = bench.install(&format!("C:\\Setup\\{source}.msi")).unwrap();
        assert_eq!(run.code, 0, "{}", logs::decode(&run.log));
        let result = check(&bench, source);
        assert!(result.files > 0 && result.values > 0);
        assert_eq!(result.findings, [], "{source}");
    }
}

#[test]
fn an_upgrade_replaces_the_older_version_and_leaves_what_is_shared() {
    let (_folder, bench) = bench(&(has(&["label-bridge", "scale-desk-5.1"]) + &lies("scale-desk-5.2")));
    let before = bench.survey().unwrap();
    let old = Registered::read(&before);
    let run = bench.install("C:\\Setup\\scale-desk-5.2.msi").unwrap();
    assert_eq!(run.code, 0, "{}", logs::decode(&run.log));
    assert_eq!(check(&bench, "scale-desk-5.2").findings, []);
    assert_eq!(check(&bench, "label-bridge").findings, [], "the bystander is whole");
    let after = bench.survey().unwrap();
    let new = Registered::read(&after);
    assert_eq!((old.products.len(), new.products.len()), (2, 2));
    let versions: BTreeSet<String> =
        new.products.values().filter_map(|one| one.version.as_ref()).map(|one| one.to_string()).collect();
    assert_eq!(versions, BTreeSet::from(["2.4.0".to_owned(), "5.2.0".to_owned()]));
    let shared = "C:\\Program Files\\Common Files\\Fennelgate\\Runtime\\flgrt64.dll";
    let touched = compare(&before, &after).into_iter().any(|one| one.place.path == shared);
    assert!(!touched && after.exists(shared));
    let clients = new.components.values().find(|clients| clients.values().any(|path| path == shared)).unwrap();
    assert_eq!(clients.len(), 2, "both products use the run-time");
}

#[test]
fn an_upgrade_without_the_old_package_stops_and_changes_nothing() {
    let (folder, bench) = bench(&(has(&["scale-desk-5.1"]) + &lies("scale-desk-5.2")));
    let cache = folder.path().join("bench/disk/Windows/Installer");
    std::fs::remove_dir_all(&cache).unwrap();
    std::fs::create_dir(&cache).unwrap();
    let before = bench.survey().unwrap();
    let package = Package::read(&bytes("scale-desk-5.2")).unwrap();
    let prediction = predict(&package, &before, &Registered::read(&before));
    assert!(matches!(prediction.stops.as_slice(), [Stop::CannotRemove { .. }]), "{:?}", prediction.stops);
    let run = bench.install("C:\\Setup\\scale-desk-5.2.msi").unwrap();
    let log = logs::diagnose(run.log.as_slice()).unwrap();
    assert_eq!((run.code, log.main().unwrap().failed[0].text.as_str()), (1603, "RemoveExistingProducts"));
    assert_eq!(compare(&before, &bench.survey().unwrap()), []);
}

#[test]
fn files_in_use_stop_an_install_before_it_begins() {
    let process = "\n[[process]]\npid = 9\nrunning = true\nimage = 'C:\\Tools\\view.exe'\ntitle = \"Label Viewer\"\n\
        holds = ['C:\\Program Files\\Fennelgate\\Label Bridge\\fonts\\dairy-sans.fnt']\n";
    let (_folder, bench) = bench(&(lies("label-bridge") + process));
    let before = bench.survey().unwrap();
    let run = bench.install("C:\\Setup\\label-bridge.msi").unwrap();
    let log = logs::decode(&run.log);
    assert_eq!(run.code, 1603);
    assert!(log.contains("Error 1306") && log.contains("Label Viewer"), "{log}");
    assert_eq!(compare(&before, &bench.survey().unwrap()), []);
}

#[test]
fn what_is_no_package_has_its_own_code() {
    let (_folder, bench) = bench("\n[[file]]\npath = 'C:\\Setup\\notes.msi'\ntext = \"not a package\"\n");
    assert_eq!(bench.install("C:\\Setup\\notes.msi").unwrap().code, 1620);
    assert!(matches!(bench.install("C:\\Setup\\gone.msi"), Err(MachineError::Absent(_))));
}

#[test]
fn the_prediction_is_what_the_engine_then_says() {
    // Every combination of what can be there before.
    for mask in 0..8u8 {
        let all = ["weigh-3", "label-bridge", "scale-desk-5.1"];
        let there: Vec<&str> =
            all.iter().enumerate().filter(|(at, _)| mask & 1 << at != 0).map(|(_, name)| *name).collect();
        let (_folder, bench) = bench(&(has(&there) + &lies("scale-desk-5.2")));
        let survey = bench.survey().unwrap();
        let package = Package::read(&bytes("scale-desk-5.2")).unwrap();
        let prediction = predict(&package, &survey, &Registered::read(&survey));
        let run = bench.install("C:\\Setup\\scale-desk-5.2.msi").unwrap();
        assert_eq!(prediction.stops.is_empty(), run.code == 0, "{there:?}: {:?}", prediction.stops);
        assert_eq!(there.contains(&"weigh-3"), run.code != 0, "{there:?}");
    }
}

#[test]
fn a_look_at_some_places_sees_what_a_look_at_all_sees() {
    let (_folder, bench) = bench(&has(&["label-bridge", "scale-desk-5.1"]));
    let whole = bench.survey().unwrap();
    assert!(count(&whole) > 100);
    let folders = whole.files.below(whole.files.root()).into_iter().skip(1).step_by(3).map(|at| {
        let path = whole.files.path(at);
        match whole.files.data(at).kind {
            stubble_core::survey::EntryKind::Folder => stubble_core::model::Place::folder(path),
            _ => stubble_core::model::Place::file(path),
        }
    });
    let keys = whole.registry.keys();
    let keys = keys
        .below(keys.root())
        .into_iter()
        .skip(3)
        .step_by(5)
        .map(|at| stubble_core::model::Place::key(whole.registry.path(at)));
    for place in folders.chain(keys) {
        let part = bench.survey_of(std::slice::from_ref(&place)).unwrap();
        assert_eq!(state::of(&part, &place), state::of(&whole, &place), "{place:?}");
        assert!(state::of(&whole, &place).is_some());
    }
}

#[test]
fn names_are_found_in_any_case_and_never_outside() {
    let (_folder, bench) = bench("\n[[file]]\npath = 'C:\\Setup\\Read Me.txt'\ntext = \"here\"\n");
    assert_eq!(bench.read_file("c:\\SETUP\\read me.TXT", 100).unwrap(), b"here");
    for path in [
        "C:\\Setup\\..\\..\\bench.toml",
        "D:\\Setup\\Read Me.txt",
        "Setup",
        "C:\\Setup\\Read Me.txt:stream",
        "C:\\Setup\\nul",
    ] {
        let refused = bench.read_file(path, 100);
        assert!(matches!(refused, Err(MachineError::Refused { .. })), "{path}: {refused:?}");
    }
    assert!(matches!(bench.read_file("C:\\Setup\\Read Me.txt", 3), Err(MachineError::Refused { .. })), "too large");
    assert!(matches!(bench.read_file("C:\\Setup", 100), Err(MachineError::Refused { .. })), "a folder");
}

#[test]
fn changes_of_a_bench_that_is_read_leave_no_trace_in_time() {
    let (_folder, bench) = bench(&has(&["label-bridge"]));
    let before = bench.survey().unwrap();
    assert!(bench.stop_service("FennelgateLabelSpooler").unwrap());
    assert!(!bench.stop_service("FennelgateLabelSpooler").unwrap());
    bench.start_service("FennelgateLabelSpooler").unwrap();
    assert!(matches!(bench.stop_service("Thimblerig"), Err(MachineError::Absent(_))));
    assert_eq!(bench.end_process("C:\\nothing.exe").unwrap(), 0);
    let after = bench.survey().unwrap();
    assert_eq!(compare(&before, &after), []);
    assert_eq!(before.running, after.running);
    assert!(!compare(&before, &after).iter().any(|one| one.how == Difference::Touched));
}

/// Each byte in turn would take long; every hundredth, and each of the first sectors, is enough to meet
/// headers, directories, strings, tables and the cabinet.
#[test]
fn a_damaged_package_is_an_error_or_a_package_and_never_a_panic() {
    let whole = bytes("label-bridge");
    let places = (0..whole.len()).filter(|at| at % 97 == 0 || *at < 2048);
    let mut refused = 0;
    for at in places {
        let mut damaged = whole.clone();
        damaged[at] ^= 0xFF;
        let cut = whole[..at].to_vec();
        for bytes in [damaged, cut] {
            refused += usize::from(Package::read(&bytes).and_then(|package| package.contents(&bytes)).is_err());
        }
    }
    assert!(refused > 1000, "{refused}");
}
