//! The plan of the house: crates and the arrows between them, tables, schemas, docs.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap()
}

#[test]
fn the_crates_know_only_what_lies_below_them() {
    let metadata = cargo_metadata::MetadataCommand::new().current_dir(root()).no_deps().exec().unwrap();
    let allowed: &[(&str, &[&str])] = &[
        ("stubble-core", &[]),
        ("stubble-hive", &[]),
        ("stubble-machine", &["stubble-core", "stubble-hive"]),
        ("stubble-ledger", &["stubble-core", "stubble-machine"]),
        ("stubble", &["stubble-core", "stubble-machine", "stubble-ledger"]),
    ];
    // Made-up machines for measuring, which no crate of the product depends on.
    let beside = ["stubble-worlds"];
    let names: BTreeSet<&str> = allowed.iter().map(|(name, _)| *name).collect();
    assert_eq!(metadata.packages.len(), names.len() + beside.len(), "a crate is missing from this test");
    for (name, below) in allowed {
        let package = metadata.packages.iter().find(|package| package.name.as_str() == *name).unwrap();
        let normal = package.dependencies.iter().filter(|one| one.kind == cargo_metadata::DependencyKind::Normal);
        let own: BTreeSet<&str> = normal.map(|one| one.name.as_str()).filter(|one| names.contains(one)).collect();
        assert_eq!(own, below.iter().copied().collect(), "{name} may depend on these of our crates only");
    }
}

#[test]
fn the_core_reads_no_file_no_clock_and_prints_nothing() {
    let forbidden =
        ["std::fs", "std::env", "std::process", "SystemTime", "Instant::now", "println!", "eprintln!", "std::net"];
    let mut files = Vec::new();
    rust_files(&root().join("crates/core/src"), &mut files);
    assert!(files.len() > 40);
    for file in files {
        let text = fs::read_to_string(&file).unwrap();
        for word in forbidden {
            assert!(!text.contains(word), "{} contains {word}", file.display());
        }
    }
}

#[test]
fn one_file_of_the_program_names_a_backend() {
    let mut files = Vec::new();
    rust_files(&root().join("crates/cli/src"), &mut files);
    let naming: Vec<String> = files
        .iter()
        .filter(|file| fs::read_to_string(file).unwrap().contains("stubble_machine::bench::{"))
        .map(|file| file.file_name().unwrap().to_string_lossy().into_owned())
        .collect();
    assert_eq!(naming, ["machines.rs"]);
}

#[test]
fn the_shipped_schemas_are_those_of_the_types() {
    let folder = root().join("docs/schemas");
    let bless = std::env::var_os("STUBBLE_BLESS").is_some();
    let mut names = BTreeSet::new();
    for (name, schema) in stubble::schemas() {
        let file = format!("{}.json", name.replace('/', "-"));
        let text = serde_json::to_string_pretty(&schema).unwrap() + "\n";
        if bless {
            fs::create_dir_all(&folder).unwrap();
            fs::write(folder.join(&file), &text).unwrap();
        }
        assert_eq!(
            fs::read_to_string(folder.join(&file)).unwrap_or_default(),
            text,
            "{file}: run with STUBBLE_BLESS=1"
        );
        names.insert(file);
    }
    let shipped: BTreeSet<String> =
        fs::read_dir(&folder).unwrap().map(|file| file.unwrap().file_name().to_string_lossy().into_owned()).collect();
    assert_eq!(shipped, names);
}

#[test]
fn the_command_reference_is_that_of_the_program() {
    let mut command = <stubble::Args as clap::CommandFactory>::command();
    command = command.term_width(100);
    command.build();
    let mut text = String::from("# Commands\n\nMade from the program's own help; a test compares them.\n");
    text.push_str(&format!("\n```text\n{}```\n", command.render_long_help()));
    let names: Vec<String> =
        command.get_subcommands().map(|sub| sub.get_name().to_owned()).filter(|name| name != "help").collect();
    for name in names {
        let sub = command.find_subcommand_mut(&name).unwrap();
        text.push_str(&format!("\n## {name}\n\n```text\n{}```\n", sub.render_long_help()));
    }
    let text = text.lines().map(str::trim_end).collect::<Vec<_>>().join("\n") + "\n";
    let path = root().join("docs/commands.md");
    if std::env::var_os("STUBBLE_BLESS").is_some() {
        fs::write(&path, &text).unwrap();
    }
    assert_eq!(fs::read_to_string(&path).unwrap_or_default(), text, "run with STUBBLE_BLESS=1");
}

#[test]
fn files_can_be_read_in_one_sitting() {
    let mut files = Vec::new();
    rust_files(&root().join("crates"), &mut files);
    let long: Vec<_> = files.iter().filter(|file| fs::read_to_string(file).unwrap().lines().count() > 500).collect();
    assert!(long.is_empty(), "{long:?}");
}

fn rust_files(folder: &Path, into: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
        let path = entry.path();
        if path.is_dir() {
            rust_files(&path, into);
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            into.push(path);
        }
    }
}
