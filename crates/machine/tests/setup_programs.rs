//! What setups carry: packages in setup programs, as they are or in a cabinet, and drivers of the other kind.

use crate::made;

use std::io::{Cursor, Write};
use std::path::Path;

use stubble_core::blockers::{Blocker, Known, Severity, check};
use stubble_core::content::inf::{self, Inf};
use stubble_core::content::{Version, program};
use stubble_core::packages::{Package, Registered};
use stubble_core::payloads::carried;
use stubble_core::subject::{Identified, PackageFile, identify};
use stubble_core::trace::trace;
use stubble_machine::Observe;
use stubble_machine::bench::{Bench, demo, world};

const INF: &str = "[Version]\nClass=Ports\nProvider=\"Fennelgate Instruments\"\n[Manufacturer]\nFennelgate=Scales\n\
                   [Scales]\nScale=Install,USB\\VID_F3A1&PID_0051\n[Install]\nCopyFiles=Files\n";

fn package(name: &str) -> Option<String> {
    let files = format!("[[file]]\nname = \"qlscale.inf\"\ntext = '''\n{INF}'''\n");
    match name {
        "driver" => Some(made::package("Quernlight Scale Driver", "Scale Driver", '3', &files)),
        name => demo::package(name),
    }
}

fn bench(folder: &Path) -> Bench {
    let rows = ["scale-desk-5.2", "label-bridge", "driver"].map(made::lies).concat();
    world::build(&made::world(&rows), &package, folder).unwrap();
    Bench::open(folder).unwrap()
}

fn setup_program(parts: &[&[u8]]) -> Vec<u8> {
    let says = Version { product: "Quernlight Scale Desk Setup".to_owned(), ..Version::default() };
    let mut content = program::file(&says);
    parts.iter().for_each(|part| content.extend(*part));
    content
}

fn cabinet(name: &str, content: &[u8]) -> Vec<u8> {
    let mut builder = cab::CabinetBuilder::new();
    builder.add_folder(cab::CompressionType::MsZip).add_file(name);
    let mut build = builder.build(Cursor::new(Vec::new())).unwrap();
    while let Some(mut file) = build.next_file().unwrap() {
        file.write_all(content).unwrap();
    }
    build.finish().unwrap().into_inner()
}

#[test]
fn packages_are_found_in_setup_programs_wherever_they_lie() {
    let folder = tempfile::tempdir().unwrap();
    let bench = bench(folder.path());
    let read = |path: &str| bench.read_file(path, 1 << 30).unwrap();
    let (desk, label) = (read("C:\\Setup\\scale-desk-5.2.msi"), read("C:\\Setup\\label-bridge.msi"));
    let names = |program: &[u8]| -> Vec<String> {
        let found = carried(program);
        // What was taken out is a package by itself, with all of its files.
        for one in &found {
            assert_eq!(one.package.contents(&one.content).unwrap().len(), one.package.files.len());
        }
        found.into_iter().map(|one| one.package.name).collect()
    };
    let (scale, bridge) = ("Quernlight Scale Desk", "Fennelgate Label Bridge");
    assert_eq!(names(&setup_program(&[&desk])), [scale]);
    assert_eq!(names(&setup_program(&[&[7; 333], &desk, b"and a signature behind it"])), [scale]);
    assert_eq!(names(&setup_program(&[&cabinet("desk.msi", &desk)])), [scale]);
    assert_eq!(names(&setup_program(&[&cabinet("readme.txt", b"nothing")])), [""; 0]);
    let mut both = names(&setup_program(&[&label, &[0; 100], &desk]));
    both.sort();
    assert_eq!(both, [bridge, scale]);
    assert_eq!(names(&setup_program(&[&desk[..desk.len() / 2]])), [""; 0]);
    assert_eq!(names(&desk), [""; 0], "a package is no program");
}

#[test]
fn a_driver_of_the_other_kind_stands_in_the_way() {
    let folder = tempfile::tempdir().unwrap();
    let bench = bench(folder.path());
    let (survey, path) = (bench.survey().unwrap(), "C:\\Setup\\driver.msi");
    let bytes = bench.read_file(path, 1 << 30).unwrap();
    let mut package = Package::read(&bytes).unwrap();
    package.look_into(&package.contents(&bytes).unwrap());
    assert_eq!(package.infs.len(), 1);
    let registered = Registered::read(&survey);
    let packages = [PackageFile { path: path.into(), package, carried: false }];
    let Identified::One(subject) = identify(&survey, &registered, &packages, "scale driver") else { panic!() };
    let told = |there: String| -> Vec<Blocker> {
        let drivers: Vec<Inf> = inf::parse("oem7.inf", there.as_bytes()).into_iter().collect();
        assert_eq!(drivers.len(), 1);
        let payload = Some((path, &packages[0].package));
        let known = Known { payload, drivers: &drivers, ..Known::default() };
        let found = check(&survey, &registered, &subject, &trace(&survey, &registered, &subject), known);
        found.into_iter().filter(|one| one.rule == "driver-kinds").collect()
    };
    assert_eq!(told(INF.to_owned()), []);
    let parts = INF.replace("CopyFiles=Files", "AddComponent=Panel,,PanelInstall");
    let found = told(parts.clone());
    assert_eq!((found.len(), found[0].severity), (1, Severity::MayFail));
    assert!(found[0].title.contains("in one package") && found[0].evidence[0].contains("oem7.inf"), "{found:?}");
    // Another maker's, and other hardware, is nobody's business.
    assert_eq!(told(parts.replace("Fennelgate Instruments", "Sievewell")), []);
    assert_eq!(told(parts.replace("PID_0051", "PID_0052")), []);
}
