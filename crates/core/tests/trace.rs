//! The rules, one by one: what is claimed, what is split, what stays, and why.

use crate::pc;

use pc::{DESK, MAREN, NIGHT, Pc, desk, label_bridge, remnant, traced, with};
use stubble_core::model::{PlaceKind, RegValue};
use stubble_core::packages::Registered;
use stubble_core::subject::{Anchor, AnchorKind};
use stubble_core::trace::why::explain;
use stubble_core::trace::{Decision, Group, RuleId, Scene, Standing, trace};

#[test]
fn the_entry_and_its_folder_are_certain() {
    let trace = traced(&desk(), "scale desk");
    let entry = format!("{}\\desk", pc::UNINSTALL);
    assert_eq!(remnant(&trace, &entry).unwrap().standing, Standing::Certain);
    // Nothing else lives in the vendor's folder, so it goes as a whole.
    let folder = remnant(&trace, "C:\\Program Files\\Fennelgate").unwrap();
    assert_eq!((folder.standing, folder.decision, folder.group), (Standing::Certain, Decision::Remove, Group::Program));
    assert_eq!((folder.files, folder.bytes), (1, 100));
}

#[test]
fn a_vendors_folder_with_another_product_is_not_taken() {
    let mut pc = desk();
    label_bridge(&mut pc);
    let trace = traced(&pc, "scale desk");
    assert!(remnant(&trace, DESK).is_some());
    assert!(remnant(&trace, "C:\\Program Files\\Fennelgate").is_none());
    assert!(trace.bystanders.iter().any(|one| one.place.path.ends_with("Label Bridge")));
    assert!(!trace.remnants.iter().any(|one| one.place.path.contains("Label Bridge")));
}

#[test]
fn a_vendors_folder_with_anything_unknown_in_it_is_not_taken() {
    let mut pc = desk();
    pc.file("C:\\Program Files\\Fennelgate\\licences.txt");
    let trace = traced(&pc, "scale desk");
    assert!(remnant(&trace, DESK).is_some());
    assert!(remnant(&trace, "C:\\Program Files\\Fennelgate").is_none());
}

#[test]
fn a_product_that_lives_inside_the_subjects_folder_splits_it() {
    let mut pc = desk();
    let inner = format!("{DESK}\\Extras\\Mould Counter");
    pc.listed("counter", "Mould Counter", "Sievewell Timing", &inner).file(&format!("{inner}\\count.exe"));
    pc.file(&format!("{DESK}\\Extras\\readme.txt"));
    let trace = traced(&pc, "scale desk");
    assert_eq!(remnant(&trace, &inner).unwrap().decision, Decision::Keep);
    assert!(remnant(&trace, &inner).unwrap().reason.contains("Mould Counter"));
    let removed = with(&trace, Decision::Remove);
    assert!(removed.contains(&format!("{DESK}\\desk.exe")) && removed.contains(&format!("{DESK}\\Extras\\readme.txt")));
    assert!(!removed.iter().any(|path| inner.starts_with(path.as_str())), "{removed:?}");
}

#[test]
fn names_match_as_wholes() {
    let mut pc = desk();
    for folder in ["Scale Desk Pro", "Scale Desktop", "Desk", "Quernlight Scale Desk Viewer"] {
        pc.file(&format!("C:\\ProgramData\\Fennelgate\\{folder}\\x.dat"));
    }
    for folder in ["Scale Desk", "Quernlight Scale Desk 5.0", "QuernlightScaleDesk", "quernlight-scale-desk"] {
        pc.file(&format!("C:\\ProgramData\\Fennelgate\\{folder}\\x.dat"));
    }
    let trace = traced(&pc, "scale desk");
    let found: Vec<String> =
        with(&trace, Decision::Remove).into_iter().filter(|path| path.contains("ProgramData")).collect();
    assert_eq!(
        found,
        [
            "C:\\ProgramData\\Fennelgate\\Quernlight Scale Desk 5.0",
            "C:\\ProgramData\\Fennelgate\\QuernlightScaleDesk",
            "C:\\ProgramData\\Fennelgate\\Scale Desk",
            "C:\\ProgramData\\Fennelgate\\quernlight-scale-desk",
        ]
    );
}

#[test]
fn a_short_name_counts_only_below_the_publisher() {
    let mut pc = desk();
    pc.file("C:\\ProgramData\\Scale Desk\\x.dat").file("C:\\ProgramData\\Otherfirm\\Scale Desk\\x.dat");
    pc.file("C:\\ProgramData\\Quernlight Scale Desk\\x.dat");
    let trace = traced(&pc, "scale desk");
    assert!(remnant(&trace, "C:\\ProgramData\\Scale Desk").is_none());
    assert!(remnant(&trace, "C:\\ProgramData\\Otherfirm\\Scale Desk").is_none());
    assert_eq!(remnant(&trace, "C:\\ProgramData\\Quernlight Scale Desk").unwrap().standing, Standing::Likely);
}

#[test]
fn both_views_and_every_user_are_searched() {
    let mut pc = desk();
    label_bridge(&mut pc);
    pc.key("HKLM\\SOFTWARE\\Fennelgate\\Label Bridge", &[("a", "b")]);
    for key in ["HKLM\\SOFTWARE\\Fennelgate\\Scale Desk", "HKLM\\SOFTWARE\\WOW6432Node\\Fennelgate\\Scale Desk"] {
        pc.key(key, &[("a", "b")]);
    }
    for user in ["maren", "night-shift"] {
        pc.file(&format!("C:\\Users\\{user}\\AppData\\Local\\Fennelgate\\Scale Desk\\cache\\1.bin"));
        pc.file(&format!("C:\\Users\\{user}\\AppData\\LocalLow\\Fennelgate\\Scale Desk\\x.bin"));
        pc.file(&format!("C:\\Users\\{user}\\AppData\\Roaming\\Fennelgate\\Scale Desk\\logs\\x.log"));
    }
    let removed = with(&traced(&pc, "scale desk"), Decision::Remove);
    for path in [
        "HKLM\\SOFTWARE\\Fennelgate\\Scale Desk",
        "HKLM\\SOFTWARE\\WOW6432Node\\Fennelgate",
        "C:\\Users\\maren\\AppData\\Local\\Fennelgate",
        "C:\\Users\\night-shift\\AppData\\Local\\Fennelgate",
        "C:\\Users\\maren\\AppData\\LocalLow\\Fennelgate",
        "C:\\Users\\night-shift\\AppData\\Roaming\\Fennelgate",
    ] {
        assert!(removed.contains(&path.to_owned()), "{path} is missing in {removed:#?}");
    }
}

#[test]
fn settings_documents_and_licences_of_users_stay() {
    let mut pc = desk();
    let data = "C:\\Users\\maren\\AppData\\Roaming\\Fennelgate\\Scale Desk";
    for file in
        ["settings.json", "desk.ini", "dairy.lic", "tare notes.txt", "cache\\settings.ini", "logs\\old.txt", "x.idx"]
    {
        pc.file(&format!("{data}\\{file}"));
    }
    pc.key(&format!("HKU\\{MAREN}\\SOFTWARE\\Fennelgate\\Scale Desk"), &[("Beep", "1")]);
    let trace = traced(&pc, "scale desk");
    let kept: Vec<String> = with(&trace, Decision::Keep);
    for file in ["settings.json", "desk.ini", "dairy.lic", "tare notes.txt"] {
        assert!(kept.contains(&format!("{data}\\{file}")), "{file}: {kept:#?}");
    }
    assert!(kept.contains(&format!("HKU\\{MAREN}\\SOFTWARE\\Fennelgate\\Scale Desk")));
    let removed = with(&trace, Decision::Remove);
    for file in ["cache", "logs"] {
        assert!(removed.contains(&format!("{data}\\{file}")), "{file}: {removed:#?}");
    }
    // Nobody can tell whose that is.
    assert!(kept.contains(&format!("{data}\\x.idx")), "{kept:#?}");
}

#[test]
fn documents_of_the_subjects_own_type_stay_also_when_its_program_is_gone() {
    let mut pc = desk();
    let list = "C:\\Users\\maren\\AppData\\Roaming\\Fennelgate\\Scale Desk\\Lists\\week.qwl";
    pc.file(list).key("HKLM\\SOFTWARE\\Classes\\.qwl", &[("", "Quernlight.List")]);
    let command = format!("\"{DESK}\\desk.exe\" \"%1\"");
    pc.key("HKLM\\SOFTWARE\\Classes\\Quernlight.List\\shell\\open\\command", &[("", &command)]);
    let before = pc.survey();
    let subject = pc::subject(&before, &[], "scale desk");
    for _ in 0..2 {
        let survey = pc.survey();
        let trace = stubble_core::trace::trace(&survey, &Registered::read(&survey), &subject);
        let folder = remnant(&trace, "C:\\Users\\maren\\AppData\\Roaming\\Fennelgate\\Scale Desk");
        assert_eq!(folder.unwrap().decision, Decision::Keep);
        pc.remove("C:\\Program Files\\Fennelgate").remove("HKLM\\SOFTWARE\\Classes\\.qwl");
    }
}

#[test]
fn services_processes_shortcuts_and_startup_follow_the_folder() {
    let mut pc = desk();
    pc.service("ScaleBridge", &format!("\"{DESK}\\bridge.exe\" -k"), true);
    pc.service("Spooler", "%SystemRoot%\\System32\\spoolsv.exe", true);
    pc.process(&format!("{DESK}\\tray.exe"), &[]).process("C:\\Windows\\explorer.exe", &[]);
    pc.shortcut("C:\\Users\\maren\\Desktop\\Scales.lnk", &format!("{DESK}\\desk.exe"));
    pc.shortcut("C:\\Users\\maren\\Desktop\\Other.lnk", "C:\\Windows\\System32\\calc.exe");
    let run = format!("HKU\\{NIGHT}\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run");
    pc.key(&run, &[("Desk", &format!("{DESK}\\desk.exe /quiet")), ("Other", "C:\\Windows\\System32\\calc.exe")]);
    let trace = traced(&pc, "scale desk");
    let kinds = |kind| {
        trace.remnants.iter().filter(|one| one.place.kind == kind).map(|one| one.place.to_string()).collect::<Vec<_>>()
    };
    assert_eq!(kinds(PlaceKind::Service), ["ScaleBridge"]);
    assert_eq!(kinds(PlaceKind::Process), [format!("{DESK}\\tray.exe")]);
    assert_eq!(kinds(PlaceKind::Shortcut), ["C:\\Users\\maren\\Desktop\\Scales.lnk"]);
    assert_eq!(kinds(PlaceKind::Startup), [format!("{run} : Desk")]);
}

#[test]
fn a_program_that_runs_from_a_services_file_is_ended_and_the_services_own_process_is_not() {
    let mut pc = desk();
    let bridge = format!("{DESK}\\bridge.exe");
    pc.service("ScaleBridge", &format!("\"{bridge}\" -k"), true).process(&bridge, &[]);
    let service = pc.survey().running.processes[0].pid;
    let ended = |pc: &Pc| {
        let trace = traced(pc, "scale desk");
        let found = trace.remnants.into_iter().find(|one| one.place.kind == PlaceKind::Process);
        found.map(|one| one.evidence.iter().map(|evidence| evidence.text.clone()).collect::<String>())
    };
    assert_eq!(ended(&pc), None, "whose process it is is not known");
    pc.runs_as("ScaleBridge", service);
    assert_eq!(ended(&pc), None);
    pc.process(&bridge, &[]);
    let text = ended(&pc).expect("the second one is no service");
    assert!(text.contains("from the same file as the service ScaleBridge"), "{text}");
}

#[test]
fn environment_variables_and_short_names_lead_to_the_folder() {
    let mut pc = desk();
    pc.service("ByVariable", "%ProgramFiles%\\Fennelgate\\Scale Desk\\desk.exe", false);
    pc.shortcut("C:\\Users\\maren\\Desktop\\s.lnk", "%ProgramFiles%\\Fennelgate\\Scale Desk\\desk.exe");
    let trace = traced(&pc, "scale desk");
    assert!(trace.remnants.iter().any(|one| one.place.path == "ByVariable"));
    assert!(remnant(&trace, "C:\\Users\\maren\\Desktop\\s.lnk").is_some());
    let survey = pc.survey();
    let short = survey.entry("C:\\PROGRA~1\\FENNEL~1\\SCALED~1");
    assert_eq!(short, None, "PROGRA~1 can mean two folders, so it means none");
    assert!(survey.entry("C:\\Program Files\\FENNEL~1\\SCALED~1").is_some());
}

#[test]
fn a_link_with_the_products_name_is_no_folder_of_its_own() {
    let mut pc = desk();
    pc.link("C:\\ProgramData\\Quernlight Scale Desk");
    let trace = traced(&pc, "scale desk");
    assert!(remnant(&trace, "C:\\ProgramData\\Quernlight Scale Desk").is_none());
}

#[test]
fn a_registration_that_names_a_root_as_folder_takes_no_root() {
    for folder in ["C:\\", "C:\\Program Files", "C:\\Program Files\\Fennelgate", "C:\\Windows", "C:\\Users\\maren"] {
        let mut pc = Pc::new();
        pc.file(&format!("{}\\inside.dat", folder.trim_end_matches('\\')));
        pc.listed("desk", "Quernlight Scale Desk", "Fennelgate Instruments", folder);
        let trace = traced(&pc, "scale desk");
        let removed = with(&trace, Decision::Remove);
        assert_eq!(removed, [format!("{}\\desk", pc::UNINSTALL)], "{folder}");
    }
}

#[test]
fn every_verdict_can_be_explained() {
    let mut pc = desk();
    label_bridge(&mut pc);
    pc.shortcut("C:\\Users\\maren\\Desktop\\Scales.lnk", &format!("{DESK}\\desk.exe"));
    let survey = pc.survey();
    let (registered, subject) = (Registered::read(&survey), pc::subject(&survey, &[], "scale desk"));
    let trace = stubble_core::trace::trace(&survey, &registered, &subject);
    let scene = Scene::new(&survey, &registered, &subject);
    let ask = |place: &str| explain(&scene, &trace, place);
    for remnant in &trace.remnants {
        let told = ask(&remnant.id);
        assert!(told.remnant.is_some() && !told.chain.is_empty(), "{told:?}");
    }
    let shortcut = ask("c:\\users\\MAREN\\desktop\\scales.lnk");
    assert!(shortcut.chain.iter().any(|one| one.rule == RuleId::ShortcutTarget));
    assert!(shortcut.chain.iter().any(|one| one.rule == RuleId::InstallFolder), "up to the registration");
    assert!(ask(&format!("{DESK}\\desk.exe")).verdict.starts_with("remove"));
    assert!(ask("C:\\Program Files\\Fennelgate\\Label Bridge\\lb.exe").verdict.contains("Label Bridge"));
    assert!(ask("C:\\Windows\\System32").verdict.contains("belongs to Windows"));
    assert!(!ask("C:\\Program Files\\Thimblerig").exists);
    assert!(ask("C:\\Program Files").verdict.starts_with("not taken"));
}

#[test]
fn any_spelling_of_a_place_is_explained() {
    let mut pc = desk();
    let code = "{3F9A6C12-7D84-4E5B-A1C0-2B8D5E7F9041}";
    pc.service("ScaleHub", &format!("{DESK}\\desk.exe"), true);
    pc.listed(code, "Quernlight Scale Desk 5.1", "Fennelgate Instruments Ltd.", DESK);
    let survey = pc.survey();
    let (registered, subject) = (Registered::read(&survey), pc::subject(&survey, &[], "scale desk"));
    let trace = stubble_core::trace::trace(&survey, &registered, &subject);
    let scene = Scene::new(&survey, &registered, &subject);
    let verdict = |place: &str| explain(&scene, &trace, place).verdict;
    for removed in [
        "ScaleHub",
        "HKLM\\SYSTEM\\ControlSet001\\Services\\ScaleHub",
        "HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\services\\scalehub",
        "\\\\?\\C:\\Program Files\\Fennelgate\\Scale Desk\\desk.exe",
        "C:/Program Files/Fennelgate/Scale Desk",
        "%ProgramFiles%\\Fennelgate\\Scale Desk",
        "C:\\Program Files\\FENNEL~1\\SCALED~1",
    ] {
        assert!(verdict(removed).starts_with("remove"), "{removed}: {}", verdict(removed));
    }
    for never in ["HKCR\\CLSID", "HKLM\\SYSTEM\\CurrentControlSet\\Services\\Tcpip", "HKEY_LOCAL_MACHINE\\SOFTWARE"] {
        assert!(verdict(never).contains("whatever a plan says"), "{never}: {}", verdict(never));
    }
    assert!(verdict("what is this").contains("no place"), "{}", verdict("what is this"));
}

#[test]
fn nothing_is_found_on_a_machine_without_the_subject() {
    let mut pc = desk();
    let subject = pc::subject(&pc.survey(), &[], "scale desk");
    pc.remove("C:\\Program Files\\Fennelgate").remove(&format!("{}\\desk", pc::UNINSTALL));
    label_bridge(&mut pc);
    let survey = pc.survey();
    let trace = stubble_core::trace::trace(&survey, &Registered::read(&survey), &subject);
    assert_eq!(trace.remnants, []);
}

#[test]
fn a_folder_that_could_not_be_read_in_full_is_asked_about() {
    let mut pc = desk();
    pc.folder(&format!("{DESK}\\locked")).gap(&format!("{DESK}\\locked"));
    let trace = traced(&pc, "scale desk");
    let folder = remnant(&trace, DESK).unwrap();
    assert_eq!(folder.decision, Decision::Ask);
    assert!(folder.reason.contains("could not be looked at"), "{}", folder.reason);
    assert!(remnant(&trace, "C:\\Program Files\\Fennelgate").is_none(), "nor is the folder above taken");
}

#[test]
fn what_could_not_be_looked_at_is_passed_on() {
    let mut pc = desk();
    pc.gap("C:\\Users\\night-shift\\NTUSER.DAT");
    assert_eq!(traced(&pc, "scale desk").could_not_look.len(), 1);
}

#[test]
fn a_component_that_is_a_value_is_no_folder_and_a_counted_file_is_one() {
    let mut pc = Pc::new();
    let code = "{A6B4D8F9-3062-4B5E-8FB4-AD807251A001}";
    let packed = "9F8D4B6A2603E5B4F84BDA0827150A10";
    let data = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Installer\\UserData\\S-1-5-18";
    pc.key(&format!("{data}\\Products\\{packed}\\InstallProperties"), &[("DisplayName", "Fennelgate Label Bridge")]);
    for (component, path) in [
        ("00000000000000000000000000000001", "02:\\SOFTWARE\\Fennelgate\\Label Bridge\\InstallFolder"),
        ("00000000000000000000000000000002", "C?\\Program Files\\Fennelgate\\Scale Desk\\flgrt64.dll"),
    ] {
        pc.key(&format!("{data}\\Components\\{component}"), &[(packed, path)]);
    }
    let folder = "C:\\Program Files\\Fennelgate\\Scale Desk";
    pc.listed("Desk", "Quernlight Scale Desk", "Fennelgate Ltd", folder);
    pc.listed(code, "Fennelgate Label Bridge", "Fennelgate Ltd", "");
    pc.file(&format!("{folder}\\flgrt64.dll")).file(&format!("{folder}\\desk.exe"));
    let trace = traced(&pc, "scale desk");
    assert!(trace.bystanders.iter().all(|one| one.place.path.starts_with('C')), "{:?}", trace.bystanders);
    let survey = pc.survey();
    let registered = Registered::read(&survey);
    let files: Vec<&str> = registered.products[&code.parse().unwrap()].files().collect();
    assert_eq!(files, ["C:\\Program Files\\Fennelgate\\Scale Desk\\flgrt64.dll"]);
}

#[test]
fn a_shortcut_in_the_products_own_folder_goes_with_the_folder() {
    let mut pc = Pc::new();
    let folder = "C:\\Program Files\\Fennelgate\\Scale Desk";
    pc.listed("Desk", "Quernlight Scale Desk", "Fennelgate Ltd", folder).file(&format!("{folder}\\desk.exe"));
    let shortcut = format!("{folder}\\Quernlight Scale Desk.lnk");
    pc.shortcut(&shortcut, &format!("{folder}\\desk.exe"));
    let trace = traced(&pc, "scale desk");
    assert!(trace.remnants.iter().all(|one| one.place.path != shortcut), "{:#?}", trace.remnants);
}

#[test]
fn a_log_takes_nothing_that_is_somebody_elses() {
    let mut pc = desk();
    label_bridge(&mut pc);
    pc.file("C:\\ProgramData\\Odd Place\\scale.bin").file("C:\\Windows\\System32\\kernel32.dll");
    let survey = pc.survey();
    let registered = Registered::read(&survey);
    let mut subject = pc::subject(&survey, &[], "scale desk");
    let others = "C:\\Program Files\\Fennelgate\\Label Bridge\\lb.exe";
    for file in [others, "C:\\ProgramData\\Odd Place\\scale.bin", "C:\\Windows\\System32\\kernel32.dll"] {
        let from = "the log setup.log".to_owned();
        subject.anchors.push(Anchor { kind: AnchorKind::LoggedFile, value: file.to_owned(), from });
    }
    let taken = with(&trace(&survey, &registered, &subject), Decision::Remove);
    assert!(
        taken.contains(&"C:\\ProgramData\\Odd Place\\scale.bin".to_owned()),
        "what is nobody else's is: {taken:#?}"
    );
    assert!(taken.iter().all(|one| !one.contains("Label Bridge") && !one.contains("kernel32")), "{taken:#?}");
}

#[test]
fn a_folder_that_somebody_chose_is_known_by_what_is_registered_from_it() {
    let folder = "C:\\Dairy\\Quernlight Scale Desk";
    let exe = format!("{folder}\\bin\\desk.exe");
    let decided = |key: &str, says: &str| {
        let mut pc = desk();
        pc.program(&exe, says).key(key, &[("", &format!("\"{exe}\" \"%1\""))]);
        let trace = traced(&pc, "scale desk");
        remnant(&trace, folder).map(|one| one.decision)
    };
    let class = "HKLM\\SOFTWARE\\Classes\\Applications\\desk.exe\\shell\\open\\command";
    let subject = "Quernlight Scale Desk";
    assert_eq!(decided(class, subject), Some(Decision::Remove));
    let mut pc = desk();
    let folders = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Installer\\Folders";
    pc.program(&exe, subject).key(folders, &[(&format!("{folder}\\"), "")]);
    assert!(remnant(&traced(&pc, "scale desk"), folder).is_some(), "the package installer has made it");
    assert_eq!(decided(class, "Tare Book"), None, "its program says that it is something else");
    assert_eq!(decided("HKLM\\SOFTWARE\\Tare Book", subject), None, "no registration: somebody's note of a copy");
    let of_a_user = &class.replace("HKLM", &format!("HKU\\{MAREN}"));
    assert_eq!(decided(of_a_user, subject), None, "one user's copy");
    let (mut pc, own) = (desk(), "C:\\Users\\maren\\Documents\\Quernlight Scale Desk");
    pc.program(&format!("{own}\\desk.exe"), subject).key(class, &[("", &format!("{own}\\desk.exe"))]);
    assert!(remnant(&traced(&pc, "scale desk"), own).is_none(), "a person's folder");
}

#[test]
fn an_approved_class_that_is_gone_is_known_by_the_name_beside_it() {
    let approved = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Shell Extensions\\Approved";
    let code = "{5C0E9A41-7D28-4B63-9F15-2A8B6D3E7C04}";
    let decided = |name: &str, class: Option<&str>| {
        let mut pc = desk();
        pc.key(approved, &[(code, name)]);
        if let Some(classes) = class {
            let server = format!("{classes}\\CLSID\\{code}\\InprocServer32");
            pc.key(&server, &[("", "C:\\Program Files\\Tare Book\\menu.dll")]);
        }
        with(&traced(&pc, "scale desk"), Decision::Remove).iter().any(|path| path.starts_with(approved))
    };
    assert!(decided("Quernlight Scale Desk", None));
    assert!(!decided("Tare Book", None), "it was another product's");
    let users = ["\\SOFTWARE\\Classes", "_Classes"].map(|end| format!("HKU\\{MAREN}{end}"));
    for classes in users.into_iter().chain(["HKLM\\SOFTWARE\\Classes".to_owned()]) {
        assert!(!decided("Quernlight Scale Desk", Some(&classes)), "its class is there, and another product's");
    }
}

#[test]
fn settings_of_a_program_that_is_gone_are_known_by_what_else_names_it() {
    let options = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Image File Execution Options\\weigh.exe";
    let entry = format!("{}\\desk", pc::UNINSTALL);
    let decided = |also: &dyn Fn(&mut Pc)| {
        let mut pc = desk();
        pc.raw(options, RegValue::dword("MitigationOptions", 1));
        also(&mut pc);
        let trace = traced(&pc, "scale desk");
        remnant(&trace, options).map(|one| one.decision)
    };
    let icon = |pc: &mut Pc| {
        pc.key(&entry, &[("DisplayIcon", &format!("\"{DESK}\\weigh.exe\",0"))]);
    };
    assert_eq!(decided(&|_| ()), None, "nobody says whose it is");
    assert_eq!(decided(&|pc| icon(pc)), Some(Decision::Remove));
    let other = "C:\\Program Files\\Tare Book\\weigh.exe";
    let elsewhere = |pc: &mut Pc| {
        icon(pc);
        pc.key("HKLM\\SOFTWARE\\Tare Book", &[("Rule", &format!("Action=Allow|App={other}|Name=Tare Book"))]);
    };
    assert_eq!(decided(&elsewhere), None, "another one of that name was elsewhere");
    let here = |pc: &mut Pc| {
        icon(pc);
        pc.file(other);
    };
    assert_eq!(decided(&here), None, "another one of that name is on the disk");
    let titled = |pc: &mut Pc| {
        icon(pc);
        pc.key("HKLM\\SOFTWARE\\Titles", &[(&format!("{DESK}\\weigh.exe.FriendlyAppName"), "Weigh")]);
    };
    assert_eq!(decided(&titled), Some(Decision::Remove), "what Windows notes of it leads to the subject");
}
