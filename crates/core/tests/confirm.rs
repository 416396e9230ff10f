//! Comparing, checking and confirming, on machines in memory.

use crate::pc;

use pc::{Pc, traced};
use proptest::prelude::*;
use stubble_core::blockers::{Known, Severity, check};
use stubble_core::confirm::{brought, outside};
use stubble_core::model::Place;
use stubble_core::packages::Registered;
use stubble_core::subject::{AnchorKind, Identified, identify};
use stubble_core::survey::compare::{Difference, compare, count};
use stubble_core::survey::records::{Record, RecordError, from_records, records};

const DESK: &str = "C:\\Program Files\\Fennelgate\\Scale Desk";

fn desk() -> Pc {
    let mut pc = Pc::new();
    pc.listed("desk", "Quernlight Scale Desk 5.1", "Fennelgate Instruments", DESK).file(&format!("{DESK}\\desk.exe"));
    pc.key("HKLM\\SOFTWARE\\Quernstone\\Recipes", &[("Servings", "12"), ("Unit", "kg")]);
    pc
}

#[test]
fn what_a_setup_program_brought_is_to_be_there() {
    let mut pc = Pc::new();
    let before = pc.survey();
    assert_eq!(brought("Scale Desk", &[], &[], &before).findings.len(), 1, "a setup that brought nothing is none");
    pc.file(&format!("{DESK}\\desk.exe")).file(&format!("{DESK}\\scale.dll")).file("C:\\Windows\\Temp\\left.tmp");
    pc.key("HKLM\\SOFTWARE\\Fennelgate\\Scale Desk", &[("Version", "5.2")]);
    let changes = compare(&before, &pc.survey());
    let restless = [Place::folder("C:\\Windows\\Temp")];
    let whole = brought("Scale Desk", &changes, &restless, &pc.survey());
    assert_eq!((whole.files, whole.values, whole.findings.len()), (2, 1, 0), "{:?}", whole.findings);

    pc.remove(&format!("{DESK}\\scale.dll")).remove("C:\\Windows\\Temp\\left.tmp");
    let damaged = brought("Scale Desk", &changes, &restless, &pc.survey());
    let missing: Vec<&str> = damaged.findings.iter().map(|one| one.place.path.as_str()).collect();
    assert_eq!(missing, [format!("{DESK}\\scale.dll")]);
}

#[test]
fn taking_what_was_planned_changes_nobody_else() {
    let mut pc = desk();
    let before = pc.survey();
    pc.remove("C:\\Program Files\\Fennelgate").touch("C:\\Program Files");
    let taken = [Place::folder("C:\\PROGRAM FILES\\Fennelgate")];
    let proof = outside(&taken, &[], &before, &pc.survey());
    assert_eq!((proof.changed.len(), &proof.before), (0, &proof.after));
    assert_eq!(proof.places, count(&before) - 3, "the vendor's folder, the product's, and its program");
}

#[test]
fn each_kind_of_change_elsewhere_is_seen() {
    let edits: [fn(&mut Pc); 6] = [
        |pc| {
            pc.sized("C:\\ProgramData\\other.dat", 101);
        },
        |pc| {
            pc.remove("C:\\ProgramData\\other.dat");
        },
        |pc| {
            pc.touch("C:\\ProgramData\\other.dat");
        },
        |pc| {
            pc.file("C:\\Windows\\new.dll");
        },
        |pc| {
            pc.key("HKLM\\SOFTWARE\\Quernstone\\Recipes", &[("New", "1")]);
        },
        |pc| {
            pc.touch("HKLM\\SOFTWARE\\Quernstone");
        },
    ];
    for (number, edit) in edits.into_iter().enumerate() {
        let mut pc = desk();
        pc.file("C:\\ProgramData\\other.dat");
        let before = pc.survey();
        pc.remove("C:\\Program Files\\Fennelgate").touch("C:\\Program Files");
        edit(&mut pc);
        let proof = outside(&[Place::folder("C:\\Program Files\\Fennelgate")], &[], &before, &pc.survey());
        assert!(!proof.changed.is_empty(), "edit {number}");
        assert_ne!(proof.before, proof.after, "edit {number}");
    }
}

#[test]
fn a_neighbours_time_counts_unless_something_was_taken_from_it() {
    let mut pc = desk();
    let before = pc.survey();
    pc.touch("C:\\ProgramData");
    let none = outside(&[], &[], &before, &pc.survey());
    assert_eq!(none.changed.len(), 1);
    assert_eq!(none.changed[0].how, Difference::Touched);
    let taken = outside(&[Place::folder("C:\\ProgramData\\Fennelgate")], &[], &before, &pc.survey());
    assert_eq!((taken.changed.len(), &taken.before), (0, &taken.after));
}

#[test]
fn blockers_without_a_payload_and_none_on_a_healthy_machine() {
    let mut pc = desk();
    let look = |pc: &Pc| {
        let survey = pc.survey();
        let subject = pc::subject(&survey, &[], "scale desk");
        check(&survey, &Registered::read(&survey), &subject, &traced(pc, "scale desk"), Known::default())
    };
    assert_eq!(look(&pc), []);
    pc.process(&format!("{DESK}\\desk.exe"), &[])
        .restart_pending("an update waits")
        .process("C:\\clock.exe", &[&format!("{DESK}\\desk.exe")]);
    let found = look(&pc);
    let rules: Vec<&str> = found.iter().map(|one| one.rule.as_str()).collect();
    assert_eq!(rules, ["held-open", "restart-pending", "still-running"]);
    assert!(
        found.iter().all(|one| one.severity == Severity::MayFail && !one.advice.is_empty() && !one.evidence.is_empty())
    );
    assert_eq!(found[0].id, "b1");
}

#[test]
fn who_is_meant() {
    let mut pc = desk();
    pc.listed("weigh", "Quernlight Weigh 3 (64-bit)", "Fennelgate Instruments", "C:\\w");
    pc.listed("stone", "Quernstone Recipes", "Quernstone Kitchen", "C:\\r");
    pc.listed("nameless", "", "Nobody", "C:\\n");
    let survey = pc.survey();
    let registered = Registered::read(&survey);
    let names = |wanted: &str| match identify(&survey, &registered, &[], wanted) {
        Identified::One(subject) => vec![subject.name],
        Identified::Several(all) | Identified::Publisher(all) => all.into_iter().map(|one| one.name).collect(),
        Identified::Unknown(_) => Vec::new(),
    };
    for (typed, expected) in [
        ("Quernlight Scale Desk", vec!["Quernlight Scale Desk"]),
        ("quernlight scale desk 5.2 x64", vec!["Quernlight Scale Desk"]),
        ("desk", vec!["Quernlight Scale Desk"]),
        ("SCALE  desk", vec!["Quernlight Scale Desk"]),
        ("weigh 3", vec!["Quernlight Weigh 3"]),
        ("quernlight", vec!["Quernlight Scale Desk", "Quernlight Weigh 3"]),
        ("quernst", vec!["Quernstone Recipes"]),
        ("5.1", vec![]),
        ("", vec![]),
        ("esk", vec![]),
    ] {
        assert_eq!(names(typed), expected, "{typed}");
    }
    let subject = pc::subject(&survey, &[], "scale desk");
    assert_eq!(subject.all(AnchorKind::FolderName).collect::<Vec<_>>(), ["Scale Desk"]);
    assert!(subject.anchors.iter().all(|anchor| !anchor.from.is_empty()));
}

#[test]
fn records_that_are_no_survey_are_refused() {
    let survey = desk().survey();
    let all: Vec<Record> = records(&survey).collect();
    let read =
        |records: Vec<Record>| from_records(records.into_iter().map(Ok::<_, RecordError>)).map(|survey| count(&survey));
    assert_eq!(read(all.clone()), Ok(count(&survey)));
    assert_eq!(read(all[1..].to_vec()), Err(RecordError::Format));
    assert_eq!(read(all[..1].to_vec()), Err(RecordError::Incomplete));
    let last = all.iter().rposition(|record| matches!(record, Record::Entry { .. })).unwrap();
    let mut wild = all;
    wild.swap(2, last);
    assert!(matches!(read(wild), Err(RecordError::Reference(_))));
}

fn machine() -> impl Strategy<Value = Pc> {
    let name = "[a-cA-Cä]{1,2}";
    let path = prop::collection::vec(name, 1..4).prop_map(|parts| parts.join("\\"));
    let files = prop::collection::vec((path.clone(), 0u64..3), 0..12);
    let keys = prop::collection::vec((path, "[a-c]", "[a-b]{0,2}"), 0..12);
    (files, keys).prop_map(|(files, keys)| {
        let mut pc = Pc::new();
        for (path, size) in files {
            // Names that differ only in case are one name on Windows.
            pc.sized(&format!("C:\\ProgramData\\{}.x", path.to_lowercase().replace('\\', ".f\\")), size);
        }
        for (path, name, text) in keys {
            let key = format!("HKLM\\SOFTWARE\\{}", path.to_lowercase());
            pc.remove(&key).key(&key, &[(&name, &text)]);
        }
        pc
    })
}

proptest! {
    #[test]
    fn a_machine_equals_itself_and_comparing_is_symmetric(one in machine(), two in machine()) {
        let (a, b) = (one.survey(), two.survey());
        prop_assert_eq!(compare(&a, &a), []);
        let (there, back) = (compare(&a, &b), compare(&b, &a));
        let number = |changes: &[stubble_core::survey::compare::Change], how| changes.iter().filter(|one| one.how == how).count();
        prop_assert_eq!(number(&there, Difference::Appeared), number(&back, Difference::Vanished));
        prop_assert_eq!(number(&there, Difference::Vanished), number(&back, Difference::Appeared));
        prop_assert_eq!(number(&there, Difference::Changed), number(&back, Difference::Changed));
        prop_assert_eq!(count(&a) + number(&there, Difference::Appeared), count(&b) + number(&there, Difference::Vanished));
    }

    #[test]
    fn the_digest_outside_differs_exactly_when_something_does(one in machine(), two in machine()) {
        let (a, b) = (one.survey(), two.survey());
        let proof = outside(&[], &[], &a, &b);
        prop_assert_eq!(proof.changed.is_empty(), proof.before == proof.after);
        prop_assert_eq!(proof.places, count(&a));
    }

    #[test]
    fn records_hold_the_whole_survey(one in machine()) {
        let survey = one.survey();
        let again = from_records(records(&survey).map(Ok::<_, RecordError>)).unwrap();
        prop_assert_eq!(compare(&survey, &again), []);
    }
}

#[test]
fn what_the_running_system_changes_is_told_and_is_no_change_of_ours() {
    let restless = [Place::folder("C:\\Windows\\Temp")];
    let survey = |file: Option<&str>| {
        let mut pc = Pc::new();
        pc.file("C:\\Windows\\Temp\\old.log").file("C:\\Windows\\win.ini");
        if let Some(file) = file {
            pc.file(file);
        }
        pc.survey()
    };
    let before = survey(None);
    let proof = outside(&[], &restless, &before, &survey(Some("C:\\Windows\\Temp\\new.log")));
    assert_eq!((proof.changed.len(), proof.by_the_system.len(), proof.before == proof.after), (0, 1, true));
    let proof = outside(&[], &restless, &before, &survey(Some("C:\\Windows\\new.ini")));
    assert_eq!((proof.changed.len(), proof.by_the_system.len(), proof.before == proof.after), (1, 0, false));
    let mut pc = Pc::new();
    pc.file("C:\\Windows\\win.ini").folder("C:\\Windows\\Web");
    let before = pc.survey();
    let proof = outside(&[], &restless, &before, &pc.touch("C:\\Windows\\Web").survey());
    assert_eq!((proof.changed.len(), proof.before == proof.after), (0, true), "the time of a folder");
    let proof = outside(&[], &restless, &before, &pc.touch("C:\\Windows\\win.ini").survey());
    assert_eq!((proof.changed.len(), proof.before == proof.after), (1, false), "the time of a file");
}
