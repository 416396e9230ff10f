//! What a package's tables tell is what its install brings, and every single damage is found.

// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

use std::fs;

use stubble_core::footprint::{compare, read, record};
use stubble_core::packages::Package;
use stubble_machine::Observe;
use stubble_machine::bench::{Bench, demo, world};

const PRODUCTS: [&str; 5] = ["label-bridge", "scale-desk-5.1", "scale-desk-5.2", "recipes", "batch-clock"];

fn bench(source: &str, folder: &std::path::Path) -> Bench {
    let text = format!(
        "[computer]\nname = \"WEIGH-09\"\nproduct = \"Windows 10 Pro\"\nversion = \"10.0.19045\"\n\
         dated = \"2026-02-27T16:40:00Z\"\nnow = \"2026-03-02T06:40:00Z\"\n\n[[user]]\nname = \"maren\"\n\
         sid = \"S-1-5-21-9-9-9-1001\"\n\n[[package]]\nsource = \"{source}\"\nat = 'C:\\Setup\\one.msi'\n"
    );
    world::build(&text, &demo::package, folder).unwrap();
    Bench::open(folder).unwrap()
}

#[test]
fn tables_and_install_tell_the_same_and_damage_is_found() {
    for source in PRODUCTS {
        let folder = tempfile::tempdir().unwrap();
        let bench = bench(source, folder.path());
        let before = bench.survey().unwrap();
        let bytes = bench.read_file("C:\\Setup\\one.msi", 1 << 30).unwrap();
        let package = Package::read(&bytes).unwrap();
        let print = read(&package, &package.contents(&bytes).unwrap());
        let run = bench.install("C:\\Setup\\one.msi").unwrap();
        assert_eq!(run.code, 0, "{source}");
        let after = bench.survey().unwrap();
        let hash = |paths: &[String]| bench.digests(paths);

        // One way: all that the tables tell is there.
        let whole = compare(&print, &after, &hash);
        assert_eq!(whole.installed.findings, [], "{source}");
        assert_eq!(whole.surplus, [], "{source}");
        assert_eq!(whole.installed.files, print.files.len());

        // The other way: all that came is told.
        let came = record(&before, &after, None).unwrap().footprint;
        let told: Vec<&str> = print.files.iter().map(|file| file.path.as_str()).collect();
        for file in &came.files {
            assert!(told.contains(&file.path.as_str()), "{source}: {}", file.path);
        }
        assert_eq!(came.files.len(), print.files.len(), "{source}");
        let list = "CurrentVersion\\Uninstall";
        for value in came.values.iter().filter(|value| !value.key.contains(list)) {
            let is_told = print.values.iter().any(|one| one.key == value.key && one.name == value.name);
            assert!(is_told, "{source}: {} : {}", value.key, value.name);
        }
        assert_eq!((came.name, came.version), (print.name.clone(), print.version.clone()));
        assert_eq!(came.services.len(), print.services.len());

        // Every file, damaged by one byte, is found, and nothing else.
        for file in print.files.iter().filter(|file| file.size > Some(0)) {
            let path = stubble_core::footprint::on_machine(&file.path, &after.facts).swap_remove(0);
            let on_disk = folder.path().join("disk").join(path[3..].replace('\\', "/"));
            let good = fs::read(&on_disk).unwrap();
            let mut bad = good.clone();
            bad[good.len() / 2] ^= 1;
            fs::write(&on_disk, bad).unwrap();
            let found = compare(&print, &after, &hash).installed.findings;
            assert_eq!(found.len(), 1, "{source}: {path}");
            assert_eq!(found[0].place.path, path);
            fs::write(&on_disk, good).unwrap();
        }
    }
}
