//! What is still there of a product, held against what was wanted.

use crate::pc;

use pc::{Pc, traced};
use stubble_core::confirm::{Because, Brought, Remains, Wanted, remains};
use stubble_core::model::{Place, RegValue};
use stubble_core::packages::Registered;
use stubble_core::plan::{Decided, Plan, build};
use stubble_core::survey::Survey;
use stubble_core::trace::Decision;

const DESK: &str = "C:\\Program Files\\Fennelgate\\Scale Desk";

fn desk() -> Pc {
    let mut pc = Pc::new();
    pc.listed("desk", "Quernlight Scale Desk 5.1", "Fennelgate Instruments", DESK).file(&format!("{DESK}\\desk.exe"));
    pc
}

fn plan(pc: &Pc) -> Plan {
    let survey = pc.survey();
    build(&survey, &Registered::read(&survey), &traced(pc, "scale desk"), "Quernlight Scale Desk")
}

fn run(before: &Survey, after: &Pc) -> Brought {
    let mut brought = Brought::default();
    brought.add_run(before, &after.survey());
    brought
}

const NOTHING: Wanted<'static> =
    Wanted { plan: None, decided: &[], put_off: &[], refused: &[], spared: &[], brought: const { &Brought::none() } };

fn found(pc: &Pc, wanted: Wanted<'_>) -> Vec<Remains> {
    remains(&pc.survey(), &traced(pc, "scale desk"), &wanted)
}

fn left(pc: &Pc, wanted: Wanted<'_>) -> Vec<String> {
    let left = found(pc, wanted).into_iter().filter(|one| one.because == Because::LeftOver);
    left.map(|one| one.place.to_string()).collect()
}

#[test]
fn what_setup_brought_is_new_and_an_old_file_among_it_is_named() {
    let mut pc = desk();
    assert_eq!(left(&pc, NOTHING).len(), 2);
    let brought = run(&Pc::new().survey(), &pc);
    assert_eq!(left(&pc, Wanted { brought: &brought, ..NOTHING }), [""; 0]);
    pc.file(&format!("{DESK}\\old.dll"));
    assert_eq!(left(&pc, Wanted { brought: &brought, ..NOTHING }), [format!("{DESK}\\old.dll")]);
    // What setup writes anew is new, whether it was there or not.
    let before = desk().survey();
    let mut after = desk();
    after.sized(&format!("{DESK}\\desk.exe"), 9).key(&format!("{}\\desk", pc::UNINSTALL), &[("DisplayVersion", "5.3")]);
    let brought = run(&before, &after);
    let names = left(&after, Wanted { brought: &brought, ..NOTHING });
    assert!(!names.is_empty() && names.iter().all(|name| name.contains("\\desk : ")), "{names:?}");
}

#[test]
fn a_folder_of_tasks_that_setup_has_made_is_no_remnant() {
    let before = desk().survey();
    let mut pc = desk();
    pc.tasks(&[
        ("\\Fennelgate\\Round", &format!("{DESK}\\desk.exe")),
        ("\\Fennelgate\\Tare", &format!("{DESK}\\desk.exe")),
    ]);
    let brought = run(&before, &pc);
    let has_tasks = |names: Vec<String>| names.iter().any(|name| name.starts_with("\\Fennelgate"));
    assert!(!has_tasks(left(&pc, Wanted { brought: &brought, ..NOTHING })));
    assert!(has_tasks(left(&pc, NOTHING)));
}

#[test]
fn an_entry_that_setup_has_added_to_a_list_is_told_from_an_older_one() {
    const ENVIRONMENT: &str = "HKLM\\SYSTEM\\ControlSet001\\Control\\Session Manager\\Environment";
    let path = |text: &str| RegValue::expand("Path", text);
    let entries = |pc: &Pc, brought: &Brought| -> Vec<String> {
        let names = left(pc, Wanted { brought, ..NOTHING });
        names.into_iter().filter(|name| name.contains("Path")).collect()
    };
    let mut pc = desk();
    pc.raw(ENVIRONMENT, path("C:\\Windows"));
    let clean = pc.survey();
    pc.raw(ENVIRONMENT, path(&format!("C:\\Windows;{DESK}")));
    assert_eq!(entries(&pc, &run(&clean, &pc)), [""; 0], "setup has added it");
    let old = pc.survey();
    pc.raw(ENVIRONMENT, path(&format!("C:\\Windows;{DESK};C:\\Tools")));
    assert_eq!(entries(&pc, &run(&old, &pc)).len(), 1, "setup has added another one");
}

#[test]
fn what_stays_for_a_reason_is_not_left_over() {
    let pc = desk();
    let mut plan = plan(&pc);
    let number = plan.steps.iter().position(|step| step.place.path == DESK || step.place.path.ends_with("Fennelgate"));
    let folder = plan.steps[number.unwrap()].clone();
    let of = |wanted: Wanted<'_>| {
        let all = found(&pc, wanted);
        all.into_iter().find(|one| one.place.is_within(&folder.place)).map(|one| (one.because, one.reason)).unwrap()
    };
    assert_eq!(of(NOTHING).0, Because::LeftOver);
    assert_eq!(of(Wanted { plan: Some(&plan), ..NOTHING }).0, Because::LeftOver);
    let put_off = [folder.place.clone()];
    assert_eq!(of(Wanted { plan: Some(&plan), put_off: &put_off, ..NOTHING }).0, Because::PutOff);
    let refused = [(folder.id.clone(), "denied".to_owned())];
    assert_eq!(of(Wanted { plan: Some(&plan), refused: &refused, ..NOTHING }), (Because::Refused, "denied".to_owned()));
    let spared = [folder.id.clone()];
    assert_eq!(of(Wanted { plan: Some(&plan), spared: &spared, ..NOTHING }).0, Because::Kept);
    let decided = [Decided::of(&folder, Decision::Keep, "for the audit", &[])];
    let kept = (Because::Kept, "you decided so: for the audit".to_owned());
    assert_eq!(of(Wanted { plan: Some(&plan), decided: &decided, ..NOTHING }), kept);
    // Only the last decision counts.
    let decided = [decided[0].clone(), Decided::of(&folder, Decision::Remove, "", &[])];
    assert_eq!(of(Wanted { plan: Some(&plan), decided: &decided, ..NOTHING }).0, Because::LeftOver);
    plan.steps[number.unwrap()].decision = Decision::Ask;
    assert_eq!(of(Wanted { plan: Some(&plan), ..NOTHING }).0, Because::Undecided);
    plan.steps[number.unwrap()].decision = Decision::Keep;
    assert_eq!(of(Wanted { plan: Some(&plan), ..NOTHING }).0, Because::Kept);
    let elsewhere = [Place::folder("C:\\Elsewhere")];
    assert_eq!(of(Wanted { put_off: &elsewhere, ..NOTHING }).0, Because::LeftOver);
}
