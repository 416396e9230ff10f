//! What has to be installed first, and who brings it; and what becomes of a program that is started without.

use crate::made;

use stubble_core::footprint::Footprint;
use stubble_core::packages::{Package, Registered};
use stubble_core::payloads::{Brings, needed};
use stubble_machine::bench::{Bench, world};
use stubble_machine::{Alter, Observe};

fn package(name: &str) -> Option<String> {
    let desk = "[[file]]\nname = \"desk.exe\"\nimports = [\"KERNEL32.dll\", \"flgrt64.dll\"]\n";
    let runtime = "[[file]]\nname = '[System64Folder]\\flgrt64.dll'\nsize = 700\n";
    Some(match name {
        "desk" => made::package("Quernlight Scale Desk", "Scale Desk", '1', desk),
        "runtime" => made::package("Fennelgate Runtime", "Runtime", '2', runtime),
        _ => return None,
    })
}

#[test]
fn a_missing_run_time_is_named_with_the_installer_that_brings_it() {
    let folder = tempfile::tempdir().unwrap();
    let system = "[[file]]\npath = 'C:\\Windows\\System32\\kernel32.dll'\nsize = 600\n";
    let text = made::world(&[made::lies("desk"), made::lies("runtime"), system.to_owned()].concat());
    world::build(&text, &package, folder.path()).unwrap();
    let bench = Bench::open(folder.path()).unwrap();
    let (desk, runtime) = ("C:\\Setup\\desk.msi", "C:\\Setup\\runtime.msi");
    let bytes = bench.read_file(desk, 1 << 30).unwrap();
    let mut package = Package::read(&bytes).unwrap();
    package.look_into(&package.contents(&bytes).unwrap());
    let at_hand = [Brings::read(runtime, &bench.read_file(runtime, 1 << 30).unwrap()).unwrap()];
    let print = "format = \"stubble.footprint/1\"\nname = \"Quernlight Scale Desk\"\n\
                 needs = [{ name = \"Fennelgate Runtime\" }, { name = \"Quernstone Printing\" }]\n";
    let print = Footprint::parse(print).unwrap();
    let told = |bench: &Bench| {
        let survey = bench.survey().unwrap();
        let found = needed(&survey, &Registered::read(&survey), Some(&package), Some(&print), &at_hand);
        let told = found.into_iter().map(|one| (one.what, one.brought_by.into_iter().map(|(path, _)| path).collect()));
        told.collect::<Vec<(String, Vec<String>)>>()
    };
    let (by_runtime, by_nobody) = (vec![runtime.to_owned()], Vec::new());
    let printing = ("Quernstone Printing".to_owned(), by_nobody);
    assert_eq!(
        told(&bench),
        [
            ("Fennelgate Runtime".to_owned(), by_runtime.clone()),
            printing.clone(),
            ("flgrt64.dll".to_owned(), by_runtime)
        ]
    );

    // Without it the program does not start; with it, it does, and nothing of it is needed any more.
    let program = "C:\\Program Files\\Fennelgate\\Scale Desk\\desk.exe";
    assert_eq!(bench.install(desk).unwrap().code, 0);
    assert_eq!(bench.try_program(program, 1).unwrap().exit, Some(0xC000_0135));
    assert_eq!(bench.install(runtime).unwrap().code, 0);
    assert_eq!(bench.try_program(program, 1).unwrap().exit, None);
    assert_eq!(told(&bench), [printing]);

    // For a program of 32 bits, what lies among the libraries of 64 bits is not there, and no package of 64 bits brings it.
    package.imports.values_mut().for_each(|asked| asked.is_64 = false);
    let survey = bench.survey().unwrap();
    let found = needed(&survey, &Registered::read(&survey), Some(&package), None, &at_hand);
    let runtime = found.iter().find(|one| one.what == "flgrt64.dll").unwrap();
    assert_eq!(runtime.brought_by, []);
}
