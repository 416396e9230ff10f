//! Products on other drives: what is found there by what is installed beside it, and what of people's own is not.

use crate::pc;

use pc::{Pc, remnant, traced, with};
use stubble_core::packages::{Registered, registered};
use stubble_core::permits::ground;
use stubble_core::subject::{Identified, identify};
use stubble_core::trace::{Decision, roots};

const MENU: &str = "C:\\ProgramData\\Microsoft\\Windows\\Start Menu\\Programs";
const OLD: &str = "D:\\Dairy\\Fennelgate\\Scale Desk";

/// A registered Scale Desk on the first drive, and an older one on the second, whose registration is gone.
fn desk() -> Pc {
    let mut pc = Pc::new();
    pc.facts_mut().other_drives.push("D:".into());
    let folder = "C:\\Program Files\\Fennelgate\\Scale Desk";
    pc.listed("desk", "Quernlight Scale Desk 5.1", "Fennelgate Instruments Ltd.", folder)
        .file(&format!("{folder}\\desk.exe"))
        .program(&format!("{OLD}\\desk.exe"), "Quernlight Scale Desk");
    pc
}

fn takes_old(pc: &Pc) -> bool {
    with(&traced(pc, "scale desk"), Decision::Remove).iter().any(|path| path.starts_with("D:\\Dairy\\Fennelgate"))
}

#[test]
fn a_folder_that_nothing_leads_to_may_be_a_copy() {
    let pc = desk();
    let trace = traced(&pc, "scale desk");
    assert!(remnant(&trace, OLD).is_none() && !takes_old(&pc));
}

#[test]
fn a_neighbour_or_the_start_menu_tells_where_programs_are_installed() {
    let mut beside = desk();
    let bridge = "D:\\DAIRY\\Fennelgate\\Label Bridge";
    beside.listed("bridge", "Fennelgate Label Bridge", "Fennelgate Instruments", bridge);
    beside.file(&format!("{bridge}\\lb.exe"));
    assert!(takes_old(&beside), "{:?}", roots(&beside.survey()));
    let trace = traced(&beside, "scale desk");
    assert!(!with(&trace, Decision::Remove).iter().any(|path| path.contains("Label Bridge")));
    let mut led_to = desk();
    led_to.shortcut(&format!("{MENU}\\Scale.lnk"), &format!("{OLD}\\desk.exe"));
    assert!(takes_old(&led_to));
    let mut runs = desk();
    runs.service("LabelBridge", "D:\\Dairy\\Fennelgate\\Label Bridge\\lb.exe", true);
    assert!(takes_old(&runs), "a service of a neighbour runs from there");
    // A person's own shortcut tells nothing of where setups install.
    let mut own = desk();
    own.shortcut("C:\\Users\\maren\\Desktop\\Scale.lnk", &format!("{OLD}\\desk.exe"));
    assert!(!roots(&own.survey()).contains("D:\\DAIRY"));
}

#[test]
fn copies_lists_and_what_was_thrown_away_stay() {
    let mut pc = desk();
    pc.shortcut(&format!("{MENU}\\Scale.lnk"), &format!("{OLD}\\desk.exe"));
    for own in ["D:\\Backup\\WEIGH-02\\Program Files\\Fennelgate\\Scale Desk", "D:\\$RECYCLE.BIN\\S-1\\Scale Desk"] {
        pc.program(&format!("{own}\\desk.exe"), "Quernlight Scale Desk");
    }
    pc.file("D:\\Quernlight Scale Desk\\2026-02.qwl");
    let taken = with(&traced(&pc, "scale desk"), Decision::Remove);
    assert!(takes_old(&pc) && taken.iter().all(|path| !path.contains("Backup") && !path.contains("RECYCLE")));
    assert!(taken.iter().all(|path| path != "D:\\Quernlight Scale Desk"), "the top of a drive is no root: {taken:?}");
}

#[test]
fn the_roots_of_other_drives_are_protected() {
    let pc = desk();
    let facts = pc.survey().facts;
    let why = |path: &str| ground::of(path, &facts).why();
    for path in ["D:", "D:\\Program Files", "d:\\program files (x86)", "D:\\$Recycle.Bin\\S-1\\x.qwl"] {
        assert!(why(path).is_some(), "{path}");
    }
    assert_eq!(why("D:\\Program Files\\Fennelgate"), None);
}

#[test]
fn a_product_that_only_its_folder_there_tells_is_found_by_its_name() {
    let mut pc = Pc::new();
    pc.facts_mut().other_drives.push("D:".into());
    pc.file("D:\\Program Files\\Wheywise\\Vat Monitor\\vat.exe");
    let survey = pc.survey();
    assert!(registered::uninstall_keys(&survey).iter().all(|list| survey.registry.subkeys(list).is_empty()));
    let found = identify(&survey, &Registered::read(&survey), &[], "vat monitor");
    let Identified::One(subject) = found else { panic!("it is the only one of that name") };
    assert_eq!(subject.name, "Vat Monitor");
}
