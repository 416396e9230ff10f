//! Values of Windows' own that a program has pointed at itself: set back, and the program stays where they are not.

use stubble_core::model::{Place, PlaceKind, RegValue};
use stubble_core::packages::Registered;
use stubble_core::plan::{Plan, StepKind, build, validate};
use stubble_core::trace::Decision;

use super::pc::{DESK, Pc, desk, traced};

const WINLOGON: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Winlogon";
const CLASSES: &str = "HKLM\\SOFTWARE\\Classes";

fn plan(pc: &Pc) -> Plan {
    let survey = pc.survey();
    build(&survey, &Registered::read(&survey), &traced(pc, "scale desk"), "scale desk")
}

fn steps(plan: &Plan, kind: StepKind) -> Vec<(String, Decision)> {
    plan.steps.iter().filter(|step| step.kind == kind).map(|step| (step.place.to_string(), step.decision)).collect()
}

/// What leads to the subject, and whether Windows would not start, sign in or open programs without it.
#[test]
fn what_windows_itself_starts_is_set_back_before_the_program_goes() {
    let own = format!("\"{DESK}\\desk.exe\"");
    for (key, name, text, is_needed) in [
        (WINLOGON.to_owned(), "Shell", own.clone(), true),
        (WINLOGON.to_owned(), "Userinit", format!("C:\\Windows\\system32\\userinit.exe,{DESK}\\desk.exe"), true),
        (format!("{CLASSES}\\exefile\\shell\\open\\command"), "", format!("{own} \"%1\" %*"), true),
        (format!("{CLASSES}\\txtfile\\shell\\open\\command"), "", format!("{own} \"%1\""), true),
        (format!("{CLASSES}\\.txt"), "", "ScaleDesk.Text".to_owned(), false),
    ] {
        let mut pc = desk();
        pc.file(&format!("{DESK}\\desk.exe")).key(&key, &[(name, &text)]);
        pc.key(&format!("{CLASSES}\\ScaleDesk.Text\\shell\\open\\command"), &[("", &format!("{own} \"%1\""))]);
        let survey = pc.survey();
        let mut plan = plan(&pc);
        let place = Place { kind: PlaceKind::WindowsValue, ..Place::value(key.as_str(), name) };
        assert_eq!(steps(&plan, StepKind::SetBack), [(place.to_string(), Decision::Remove)], "{key}");
        validate(&plan, &survey, None).unwrap();
        let program = Place::file(format!("{DESK}\\desk.exe"));
        let folder = plan.steps.iter().find(|step| program.is_within(&step.place)).unwrap().clone();
        let back = plan.steps.iter().position(|step| step.kind == StepKind::SetBack).unwrap();
        assert_eq!(folder.requires.contains(&plan.steps[back].id), is_needed, "{key}");
        plan.steps[back].decision = Decision::Keep;
        let refused = validate(&plan, &survey, None);
        assert_eq!(refused.is_err(), is_needed, "{key}: {refused:?}");
        if let Err(error) = refused {
            assert!(error.to_string().contains("set "), "{error}");
        }
    }
}

#[test]
fn the_program_stays_where_windows_cannot_be_set_back() {
    let mut pc = desk();
    let both = format!("{DESK}\\desk.exe,C:\\Program Files\\Tare Book\\sign.exe");
    pc.file(&format!("{DESK}\\desk.exe")).key(WINLOGON, &[("Userinit", &both)]);
    pc.file("C:\\Program Files\\Tare Book\\sign.exe");
    let plan = plan(&pc);
    assert!(steps(&plan, StepKind::SetBack).iter().all(|(_, decision)| *decision == Decision::Keep));
    validate(&plan, &pc.survey(), None).unwrap();
    let holds = |place: &Place| Place::file(format!("{DESK}\\desk.exe")).is_within(place);
    let held = plan.steps.iter().find(|step| holds(&step.place)).unwrap();
    assert_eq!(held.decision, Decision::Keep);
    assert!(held.why.starts_with("Windows signs people in by it"), "{}", held.why);
}

#[test]
fn what_is_as_windows_has_it_and_what_leads_to_others_is_left() {
    let mut pc = desk();
    pc.key(WINLOGON, &[("Shell", "explorer.exe"), ("Userinit", "C:\\Windows\\system32\\userinit.exe,")]);
    pc.key(&format!("{CLASSES}\\exefile\\shell\\open\\command"), &[("", "\"%1\" %*")]);
    pc.key(&format!("{CLASSES}\\regfile\\shell\\open\\command"), &[("", "\"C:\\Program Files\\Tare Book\\r.exe\" %1")]);
    pc.file("C:\\Program Files\\Tare Book\\r.exe");
    assert_eq!(steps(&plan(&pc), StepKind::SetBack), []);
}

#[test]
fn libraries_that_windows_loads_go_out_of_their_lists() {
    let lsa = "HKLM\\SYSTEM\\ControlSet001\\Control\\Lsa";
    let windows = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Windows";
    let many = |name: &str, texts: &[&str]| RegValue {
        name: name.into(),
        kind: 7,
        data: (texts.join("\0") + "\0\0").encode_utf16().flat_map(u16::to_le_bytes).collect(),
    };
    let mut pc = desk();
    pc.raw(lsa, many("Security Packages", &["kerberos", "msv1_0", "tareauth"]));
    pc.raw(lsa, many("Notification Packages", &["scecli", &format!("{DESK}\\notify.dll")]));
    pc.key(windows, &[("AppInit_DLLs", "C:\\PROGRA~1\\tare.dll,C:\\Program Files\\Fennelgate\\Scale Desk\\hook.dll")]);
    for file in ["notify.dll", "hook.dll"] {
        pc.program(&format!("{DESK}\\{file}"), "Quernlight Scale Desk");
    }
    let plan = plan(&pc);
    validate(&plan, &pc.survey(), None).unwrap();
    let entries = steps(&plan, StepKind::TakeEntry);
    let named: Vec<&str> = plan.steps.iter().filter_map(|step| step.place.entry.as_deref()).collect();
    assert_eq!(entries.len(), 2, "{entries:?}");
    assert!(named.iter().all(|entry| entry.starts_with(DESK)), "{named:?}");
}

/// A user's own key overrides the machine's: it is removed, and the program stays as long as it is there.
#[test]
fn what_a_user_starts_programs_with_goes_before_the_program() {
    let user = format!("HKU\\{}", super::pc::MAREN);
    let own = format!("\"{DESK}\\desk.exe\"");
    let command = format!("{user}_Classes\\exefile\\shell\\open\\command");
    let winlogon = format!("{user}\\Software\\Microsoft\\Windows NT\\CurrentVersion\\Winlogon");
    for (key, name, kind) in [(&command, "", StepKind::TakeKey), (&winlogon, "Shell", StepKind::TakeValue)] {
        let mut pc = desk();
        pc.file(&format!("{DESK}\\desk.exe")).key(key, &[(name, &format!("{own} \"%1\" %*"))]);
        let survey = pc.survey();
        let mut plan = plan(&pc);
        validate(&plan, &survey, None).unwrap();
        let step = plan.steps.iter().position(|step| step.kind == kind && step.place.path == *key).expect(key);
        assert_eq!(plan.steps[step].decision, Decision::Remove, "{key}");
        let program = Place::file(format!("{DESK}\\desk.exe"));
        let folder = plan.steps.iter().find(|step| program.is_within(&step.place)).unwrap();
        assert!(folder.requires.contains(&plan.steps[step].id), "{key}");
        plan.steps[step].decision = Decision::Keep;
        let refused = validate(&plan, &survey, None).unwrap_err().to_string();
        assert!(refused.contains(key.as_str()), "{refused}");
    }
    // The machine's key of that name is Windows', and so is a user's that leads into Windows.
    let mut pc = desk();
    pc.key(&command, &[("", "C:\\Windows\\System32\\cmd.exe /c \"%1\"")]);
    let survey = pc.survey();
    let permits = stubble_core::permits::Permits::of(&survey);
    for key in [&command, "HKLM\\SOFTWARE\\Classes\\exefile\\shell\\open\\command"] {
        assert!(permits.ask(&Place::key(key)).is_err(), "{key}");
    }
}

/// Only the values that a row names are meant: the others of that key are Windows' and the user's.
#[test]
fn of_a_key_of_windows_only_the_named_value_may_go() {
    let user = format!("HKU\\{}", super::pc::MAREN);
    let own = format!("\"{DESK}\\desk.exe\"");
    let mut pc = desk();
    let (desktop, winlogon) = (
        format!("{user}\\Control Panel\\Desktop"),
        format!("{user}\\Software\\Microsoft\\Windows NT\\CurrentVersion\\Winlogon"),
    );
    pc.file(&format!("{DESK}\\desk.exe"));
    pc.key(&desktop, &[("SCRNSAVE.EXE", &own), ("Wallpaper", &own)])
        .key(&winlogon, &[("Shell", &own), ("Other", &own)]);
    let survey = pc.survey();
    let permits = stubble_core::permits::Permits::of(&survey);
    for (key, name, may) in [
        (&desktop, "SCRNSAVE.EXE", true),
        (&desktop, "Wallpaper", false),
        (&winlogon, "Shell", true),
        (&winlogon, "Other", false),
    ] {
        assert_eq!(permits.why(&Place::value(key.as_str(), name)).is_none(), may, "{key} : {name}");
    }
    let taken = super::pc::with(&traced(&pc, "scale desk"), Decision::Remove);
    let of_user: Vec<&String> =
        taken.iter().filter(|path| path.starts_with(&desktop) || path.starts_with(&winlogon)).collect();
    assert_eq!(of_user, [&format!("{desktop} : SCRNSAVE.EXE"), &format!("{winlogon} : Shell")], "{taken:?}");
}
