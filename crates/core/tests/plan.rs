//! Plans: what they contain, how they are ordered, and what is refused when they come back.

use crate::pc;

use pc::{Pc, traced};
use stubble_core::footprint::Named;
use stubble_core::model::{FileTime, Guid, Place, PlaceKind, RegValue};
use stubble_core::packages::Registered;
use stubble_core::packages::registered::{CLASSES, INSTALLER};
use stubble_core::plan::{
    Plan, PlanError, Step, StepKind, build, build_in_order, foreign_holders, from_toml, to_toml, validate,
};
use stubble_core::subject::{Anchor, AnchorKind, Subject};
use stubble_core::survey::{Facts, Survey};
use stubble_core::trace::{Decision, trace};

const DESK: &str = "C:\\Program Files\\Fennelgate\\Scale Desk";
const CODE: &str = "{3F9A6C12-7D84-4E5B-A1C0-2B8D5E7F9041}";
const OTHER: &str = "{D5A1C8E4-3B70-4962-8F1D-9C6E2A4B7035}";

fn machine() -> Pc {
    let mut pc = Pc::new();
    pc.listed(CODE, "Quernlight Scale Desk 5.1", "Fennelgate Instruments", DESK).file(&format!("{DESK}\\desk.exe"));
    for (code, name) in [(CODE, "Quernlight Scale Desk"), (OTHER, "Fennelgate Label Bridge")] {
        let packed = code.parse::<Guid>().unwrap().packed();
        pc.key(&format!("{CLASSES}\\Products\\{packed}"), &[("ProductName", name)]);
        pc.key(
            &format!("{INSTALLER}\\UserData\\S-1-5-18\\Products\\{packed}\\InstallProperties"),
            &[("DisplayName", name)],
        );
    }
    pc.service("ScaleBridge", &format!("\"{DESK}\\bridge.exe\""), true);
    pc.key(
        &format!("HKLM\\SOFTWARE\\Classes\\CLSID\\{OTHER}\\InprocServer32"),
        &[("", "C:\\Windows\\System32\\a.dll")],
    );
    pc.service("Disk", "System32\\drivers\\disk.sys", true).file("C:\\Windows\\System32\\ntoskrnl.exe");
    pc.process(&format!("{DESK}\\tray.exe"), &[]);
    pc.process("C:\\Tools\\clock.exe", &[&format!("{DESK}\\port.lock")]);
    pc.key("HKLM\\SOFTWARE\\Fennelgate\\Scale Desk", &[("a", "b")]);
    pc
}

fn plan() -> (Survey, Plan) {
    let pc = machine();
    let trace = traced(&pc, "scale desk");
    let survey = pc.survey();
    let plan = build(&survey, &Registered::read(&survey), &trace, "Quernlight Scale Desk");
    (survey, plan)
}

fn step(plan: &mut Plan, kind: StepKind) -> &mut Step {
    plan.steps.iter_mut().find(|step| step.kind == kind).unwrap()
}

#[test]
fn a_plan_of_our_own_is_allowed_and_survives_its_file() {
    let (survey, plan) = plan();
    assert_eq!(from_toml(&to_toml(&plan), &survey).unwrap(), plan);
    assert!(plan.steps.iter().all(|step| step.expect.len() == 32));
}

#[test]
fn what_runs_from_a_folder_ends_before_the_folder_goes() {
    let (_, mut plan) = plan();
    let folder = step(&mut plan, StepKind::TakeFolder).clone();
    let position = |id: &String| plan.steps.iter().position(|step| step.id == *id).unwrap();
    assert_eq!(folder.after.len(), 3, "two processes and a service: {:?}", folder.after);
    assert!(folder.after.iter().all(|id| position(id) < position(&folder.id)));
    assert!(plan.steps.windows(2).all(|pair| pair[0].rung <= pair[1].rung));
}

#[test]
fn somebody_elses_program_is_asked_about_and_never_ended_unasked() {
    let pc = machine();
    let (survey, trace) = (pc.survey(), traced(&pc, "scale desk"));
    let holders = foreign_holders(&survey, &trace);
    assert_eq!(holders.len(), 1);
    assert_eq!(holders[0].files, [format!("{DESK}\\port.lock")]);
    let (_, plan) = plan();
    let clock = plan.steps.iter().find(|step| step.place.path.ends_with("clock.exe")).unwrap();
    assert_eq!((clock.decision, clock.kind), (Decision::Ask, StepKind::EndProcess));
    assert!(plan.chosen().all(|step| !step.place.path.ends_with("clock.exe")));
}

#[test]
fn the_registration_goes_as_one() {
    let (_, mut plan) = plan();
    let unit = step(&mut plan, StepKind::Unregister);
    assert_eq!((unit.place.path.as_str(), unit.parts.len()), (CODE, 2));
    assert!(unit.parts.iter().all(|part| part.kind == PlaceKind::Key));
}

/// An edit that must be refused, and the refusal.
type Edit = (fn(&mut Plan), fn(&PlanError) -> bool);

#[test]
fn every_hostile_edit_is_refused_by_name() {
    let edits: Vec<Edit> = vec![
        (|plan| plan.format = "stubble.plan/2".into(), |error| matches!(error, PlanError::Format { .. })),
        (|plan| plan.machine = "WEIGH-04".into(), |error| matches!(error, PlanError::OtherMachine { .. })),
        (|plan| plan.steps[1].id = plan.steps[0].id.clone(), |error| matches!(error, PlanError::Duplicate(_))),
        (|plan| plan.steps.reverse(), |error| matches!(error, PlanError::Order { .. })),
        (
            |plan| step(plan, StepKind::TakeFolder).place.path = "C:\\Windows".into(),
            |error| matches!(error, PlanError::Protected { .. }),
        ),
        (
            |plan| step(plan, StepKind::TakeFolder).place.path = "C:\\".into(),
            |error| matches!(error, PlanError::Protected { .. }),
        ),
        (
            |plan| step(plan, StepKind::TakeFolder).place.path = "C:\\Users\\maren\\Documents\\x".into(),
            |error| matches!(error, PlanError::Protected { .. }),
        ),
        (
            |plan| step(plan, StepKind::TakeFolder).place.path = format!("{DESK}\\..\\.."),
            |error| matches!(error, PlanError::Path { .. }),
        ),
        (
            |plan| step(plan, StepKind::TakeFolder).place.path = format!("{DESK}."),
            |error| matches!(error, PlanError::Path { .. }),
        ),
        (
            |plan| step(plan, StepKind::TakeFolder).place.path = "\\\\server\\share".into(),
            |error| matches!(error, PlanError::Path { .. }),
        ),
        (
            |plan| step(plan, StepKind::TakeFolder).place = Place::key("HKLM\\SOFTWARE\\Fennelgate"),
            |error| matches!(error, PlanError::Kind { .. }),
        ),
        (
            |plan| step(plan, StepKind::TakeKey).place.path = "HKLM\\SOFTWARE".into(),
            |error| matches!(error, PlanError::Protected { .. }),
        ),
        (
            |plan| step(plan, StepKind::TakeKey).place.path = "HKLM\\SYSTEM\\ControlSet001\\Control".into(),
            |error| matches!(error, PlanError::Protected { .. }),
        ),
        (
            |plan| {
                step(plan, StepKind::TakeKey).place.path =
                    format!("{CLASSES}\\Products\\{}", OTHER.parse::<Guid>().unwrap().packed())
            },
            |error| matches!(error, PlanError::ForeignPart { .. }),
        ),
        (
            |plan| step(plan, StepKind::EndProcess).place.path = "C:\\Windows\\explorer.exe".into(),
            |error| matches!(error, PlanError::Protected { .. }) || matches!(error, PlanError::Kind { .. }),
        ),
        (|plan| step(plan, StepKind::Unregister).parts.clear(), |error| matches!(error, PlanError::Kind { .. })),
        (
            |plan| step(plan, StepKind::Unregister).parts.push(Place::folder("C:\\Program Files\\Fennelgate")),
            |error| matches!(error, PlanError::ForeignPart { .. }),
        ),
        (
            |plan| {
                let part = Place::new(PlaceKind::Process, "C:\\Tools\\clock.exe");
                step(plan, StepKind::Unregister).parts.push(part);
            },
            |error| matches!(error, PlanError::Kind { .. }),
        ),
        (
            |plan| {
                step(plan, StepKind::TakeKey).place.path =
                    "HKLM\\SYSTEM\\ControlSet001\\Services\\Disk\\Parameters".into()
            },
            |error| matches!(error, PlanError::Protected { .. }),
        ),
        (
            |plan| step(plan, StepKind::TakeKey).place.path = "HKLM\\SOFTWARE\\Classes\\CLSID".into(),
            |error| matches!(error, PlanError::Protected { .. }),
        ),
        (
            |plan| step(plan, StepKind::TakeKey).place.path = "HKLM\\SOFTWARE\\Classes\\*\\shellex".into(),
            |error| matches!(error, PlanError::Protected { .. }),
        ),
        (
            |plan| step(plan, StepKind::TakeKey).place.path = format!("HKLM\\SOFTWARE\\Classes\\CLSID\\{OTHER}"),
            |error| matches!(error, PlanError::Protected { .. }),
        ),
        (
            |plan| {
                let step = step(plan, StepKind::TakeKey);
                step.kind = StepKind::TakeFile;
                step.place = Place::file("C:\\Windows\\Installer\\3f2a1.msp");
            },
            |error| matches!(error, PlanError::ForeignPart { .. }),
        ),
        (
            |plan| {
                let step = step(plan, StepKind::TakeKey);
                step.kind = StepKind::TakeFile;
                step.place = Place::file("C:\\Windows\\System32\\drivers\\disk.sys");
            },
            |error| matches!(error, PlanError::Protected { .. }),
        ),
        (
            |plan| {
                let key = "HKLM\\SYSTEM\\ControlSet001\\Control\\Session Manager\\Environment";
                let step = step(plan, StepKind::TakeKey);
                step.kind = StepKind::TakeEntry;
                step.place = Place::list_entry(key, "Path", "%SystemRoot%\\System32");
            },
            |error| matches!(error, PlanError::Protected { .. }),
        ),
        (
            |plan| {
                let step = step(plan, StepKind::TakeKey);
                (step.kind, step.place) = (StepKind::TakeTask, Place::new(PlaceKind::Task, "\\Scale Desk"));
                step.parts = vec![Place::file("C:\\Windows\\System32\\ntoskrnl.exe")];
            },
            |error| matches!(error, PlanError::ForeignPart { .. }),
        ),
        (
            |plan| {
                let step = step(plan, StepKind::TakeKey);
                (step.kind, step.place) = (StepKind::RemoveDriver, Place::new(PlaceKind::Driver, "disk.inf"));
                step.parts = vec![Place::file("C:\\Windows\\INF\\disk.inf")];
            },
            |error| matches!(error, PlanError::Protected { .. }),
        ),
        (
            |plan| {
                step(plan, StepKind::Unregister)
                    .parts
                    .push(Place::key(format!("{CLASSES}\\Products\\{}", OTHER.parse::<Guid>().unwrap().packed())))
            },
            |error| matches!(error, PlanError::ForeignPart { .. }),
        ),
        (
            |plan| step(plan, StepKind::Unregister).place.path = OTHER.into(),
            |error| matches!(error, PlanError::ForeignPart { .. }),
        ),
        (
            |plan| step(plan, StepKind::Unregister).place.path = "{00000000-0000-0000-0000-000000000001}".into(),
            |error| matches!(error, PlanError::ForeignPart { .. }),
        ),
        (
            |plan| {
                let mut twice = step(plan, StepKind::TakeFolder).clone();
                twice.id = "s99".into();
                twice.place.path = format!("{}\\SUB", twice.place.path.to_uppercase());
                twice.after.clear();
                plan.steps.push(twice);
            },
            |error| matches!(error, PlanError::Overlap { .. }),
        ),
    ];
    for (number, (edit, refusal)) in edits.into_iter().enumerate() {
        let (survey, mut plan) = plan();
        edit(&mut plan);
        let Err(error) = validate(&plan, &survey, None) else { panic!("edit {number} was allowed") };
        // A process that asks is not chosen; edited ones are looked at when they are.
        assert!(refusal(&error), "edit {number}: {error}");
    }
}

#[test]
fn a_protected_place_is_refused_only_where_it_would_be_taken() {
    let (survey, mut plan) = plan();
    let folder = step(&mut plan, StepKind::TakeFolder);
    folder.place.path = "C:\\Windows".into();
    folder.decision = Decision::Keep;
    validate(&plan, &survey, None).unwrap();
}

#[test]
fn a_service_of_windows_is_never_taken() {
    let mut pc = machine();
    pc.service("EventLog", "%SystemRoot%\\System32\\svchost.exe -k netsvcs", true);
    let trace = traced(&pc, "scale desk");
    let survey = pc.survey();
    let mut plan = build(&survey, &Registered::read(&survey), &trace, "Scale Desk");
    step(&mut plan, StepKind::RemoveService).place.path = "eventlog".into();
    let error = validate(&plan, &survey, None).unwrap_err();
    assert!(matches!(error, PlanError::Protected { .. }), "{error}");
}

#[test]
fn files_that_are_no_plan_say_where() {
    let (survey, plan) = plan();
    let text = to_toml(&plan);
    for (old, new) in [
        ("decision = \"remove\"", "decision = \"burn\""),
        ("rung = 4", "rung = \"four\""),
        ("[[step]]", "[[steps]]"),
        ("standing = \"certain\"", "standing = \"certain\"\ncolour = \"red\""),
        ("kind = \"take-folder\"", ""),
        ("format = ", "fromat = "),
    ] {
        let edited = text.replacen(old, new, 1);
        assert_ne!(edited, text, "{old}");
        let error = from_toml(&edited, &survey).unwrap_err();
        assert!(matches!(error, PlanError::Unreadable(_)), "{new}: {error}");
        assert!(error.to_string().contains("line"), "{error}");
    }
}

#[test]
fn deleted_steps_and_comments_are_the_persons_decision() {
    let (survey, plan) = plan();
    let text = to_toml(&plan);
    let first = text.find("[[step]]").unwrap();
    let second = first + 8 + text[first + 8..].find("[[step]]").unwrap();
    let shorter = format!("{}# mine\n{}", &text[..first], &text[second..]);
    let read = from_toml(&shorter, &survey).unwrap();
    assert_eq!(read.steps.len(), plan.steps.len() - 1);
}

#[test]
fn registrations_are_found_in_the_rearranged_spelling() {
    let survey = machine().survey();
    let registered = Registered::read(&survey);
    assert_eq!(registered.products.len(), 2);
    let product = &registered.products[&CODE.parse::<Guid>().unwrap()];
    assert_eq!(product.name, "Quernlight Scale Desk");
    assert!(product.entry.is_some() && !product.is_phantom(&survey));
    let bridge = &registered.products[&OTHER.parse::<Guid>().unwrap()];
    assert!(bridge.is_phantom(&survey), "no list shows it, and no package is cached");
    let value = RegValue::text("x", "Käse");
    assert_eq!(stubble_core::model::registry::text_of(&value.data), "Käse");
}

#[test]
fn a_plan_that_takes_the_library_of_a_network_layer_without_its_entry_is_refused() {
    let mut pc = machine();
    let layers = "HKLM\\SYSTEM\\ControlSet001\\Services\\WinSock2\\Parameters\\NameSpace_Catalog5\\Catalog_Entries";
    pc.file(&format!("{DESK}\\names.dll"));
    pc.key(&format!("{layers}\\000000000001"), &[("LibraryPath", &format!("{DESK}\\names.dll"))]);
    pc.raw(layers.rsplit_once('\\').unwrap().0, RegValue::dword("Num_Catalog_Entries", 1));
    let (survey, trace) = (pc.survey(), traced(&pc, "scale desk"));
    let mut plan = build(&survey, &Registered::read(&survey), &trace, "Quernlight Scale Desk");
    validate(&plan, &survey, None).unwrap();
    step(&mut plan, StepKind::TakeLayer).decision = Decision::Keep;
    let refused = validate(&plan, &survey, None).unwrap_err();
    assert!(matches!(&refused, PlanError::Protected { place, .. } if place.ends_with("names.dll")), "{refused}");
}

#[test]
fn what_somebody_knows_to_go_first_is_uninstalled_first() {
    let mut pc = machine();
    let packed = OTHER.parse::<Guid>().unwrap().packed();
    for code in [CODE, OTHER] {
        let packed = code.parse::<Guid>().unwrap().packed();
        let properties = format!("{INSTALLER}\\UserData\\S-1-5-18\\Products\\{packed}\\InstallProperties");
        pc.file(&format!("C:\\Windows\\Installer\\{packed}.msi"));
        pc.key(&properties, &[("LocalPackage", &format!("C:\\Windows\\Installer\\{packed}.msi"))]);
    }
    pc.raw(&format!("{CLASSES}\\Products\\{packed}"), RegValue::text("ProductName", "Quernlight Scale Desk Add-on"));
    pc.facts_mut().now = Some(FileTime(1));
    let survey = pc.survey();
    let registered = Registered::read(&survey);
    let subject = pc::subject(&survey, &[], "Quernlight Scale Desk");
    let both = Subject {
        anchors: subject
            .anchors
            .iter()
            .cloned()
            .chain([Anchor { kind: AnchorKind::EarlierProduct, value: OTHER.to_owned(), from: "a test".to_owned() }])
            .collect(),
        ..subject.clone()
    };
    let trace = trace(&survey, &registered, &both);
    let order_on = |survey: &Survey, order: &[Named]| -> Vec<String> {
        let plan = build_in_order(survey, &registered, &trace, "Quernlight Scale Desk", order);
        let uninstalls = plan.steps.into_iter().filter(|step| step.kind == StepKind::Uninstall);
        uninstalls.map(|step| step.place.path).collect()
    };
    let main_first = [Named { name: "Quernlight Scale Desk".to_owned(), upgrade_code: None }];
    assert_eq!(order_on(&survey, &[]), [OTHER, CODE]);
    assert_eq!(order_on(&survey, &main_first), [CODE, OTHER]);
    // Nothing can be run on a disk.
    let facts = Facts { now: None, ..survey.facts.clone() };
    assert_eq!(order_on(&Survey { facts, ..survey }, &[]), Vec::<String>::new());
}

#[test]
fn what_something_else_cannot_do_without_requires_that_it_is_gone() {
    let mut pc = machine();
    let names = "HKLM\\SYSTEM\\ControlSet001\\Services\\WinSock2\\Parameters\\NameSpace_Catalog5";
    pc.file(&format!("{DESK}\\names.dll"));
    pc.key(&format!("{names}\\Catalog_Entries\\000000000001"), &[("LibraryPath", &format!("{DESK}\\names.dll"))]);
    pc.raw(names, RegValue::dword("Num_Catalog_Entries", 1));
    let class = "HKLM\\SYSTEM\\ControlSet001\\Control\\Class\\{4D36E978-E325-11CE-BFC1-08002BE10318}";
    pc.raw(class, RegValue::multi("UpperFilters", &["serenum".to_owned(), "ScaleBridge".to_owned()]));
    let (survey, trace) = (pc.survey(), traced(&pc, "scale desk"));
    let plan = build(&survey, &Registered::read(&survey), &trace, "Quernlight Scale Desk");
    let of =
        |kind: StepKind, path: &str| plan.steps.iter().find(|one| one.kind == kind && one.place.path == path).unwrap();
    let id = |kind: StepKind| plan.steps.iter().find(|one| one.kind == kind).unwrap().id.clone();
    assert_eq!(of(StepKind::TakeFolder, "C:\\Program Files\\Fennelgate").requires, [id(StepKind::TakeLayer)]);
    assert_eq!(of(StepKind::RemoveService, "ScaleBridge").requires, [id(StepKind::TakeEntry)]);
    assert_eq!(plan.steps.iter().filter(|one| !one.requires.is_empty()).count(), 2);
    assert_eq!(from_toml(&to_toml(&plan), &survey).unwrap(), plan);
}
