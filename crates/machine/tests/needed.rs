//! What has to be installed first, and who brings it; and what becomes of a program that is started without.

use stubble_core::footprint::Footprint;
use stubble_core::packages::{Package, Registered};
use stubble_core::payloads::{Brings, needed};
use stubble_machine::bench::{Bench, world};
use stubble_machine::{Alter, Observe};

const WORLD: &str = r#"
[computer]
name = "WEIGH-12"
product = "Windows 10 Pro"
version = "10.0.19045"
dated = "2026-02-27T16:40:00Z"
now = "2026-03-02T06:40:00Z"
scenery = true

[[user]]
name = "maren"
sid = "S-1-5-21-12-12-12-1001"

[[package]]
source = "desk"
at = 'C:\Setup\desk.msi'

[[package]]
source = "runtime"
at = 'C:\Setup\runtime.msi'

[[file]]
path = 'C:\Windows\System32\kernel32.dll'
size = 600
"#;

fn package(name: &str) -> Option<String> {
    let (product, folder, file, code) = match name {
        "desk" => {
            ("Quernlight Scale Desk", "Scale Desk", "desk.exe\"\nimports = [\"KERNEL32.dll\", \"flgrt64.dll\"]", "1")
        }
        "runtime" => ("Fennelgate Runtime", "Runtime", "[System64Folder]\\\\flgrt64.dll\"\nsize = 700", "2"),
        _ => return None,
    };
    let id = |part: &str| format!("{code}{part}00000-0000-4000-8000-000000000000");
    Some(format!(
        "name = \"{product}\"\nversion = \"2.0.0\"\nmanufacturer = \"Fennelgate Instruments\"\nx64 = true\n\
         product_code = \"{}\"\nupgrade_code = \"{}\"\npackage_code = \"{}\"\n\
         folder = '[ProgramFiles64Folder]Fennelgate\\{folder}'\n[[file]]\nname = \"{file}\n",
        id("00"),
        id("01"),
        id("02")
    ))
}

#[test]
fn a_missing_run_time_is_named_with_the_installer_that_brings_it() {
    let folder = tempfile::tempdir().unwrap();
    world::build(WORLD, &package, folder.path()).unwrap();
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
    assert_eq!(bench.run_installer(desk).unwrap().code, 0);
    assert_eq!(bench.try_program(program, 1).unwrap().exit, Some(0xC000_0135));
    assert_eq!(bench.run_installer(runtime).unwrap().code, 0);
    assert_eq!(bench.try_program(program, 1).unwrap().exit, None);
    assert_eq!(told(&bench), [printing]);
}
