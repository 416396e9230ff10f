//! What consists of several places, or stands in a list of Windows: layers of the network, tasks, drivers.

use crate::pc;

use pc::{DESK, MAREN, Pc, desk, label_bridge, remnant, traced, with};
use stubble_core::model::{PlaceKind, RegValue};
use stubble_core::packages::Registered;
use stubble_core::subject::{Identified, identify};
use stubble_core::trace::{Decision, Remnant, Standing, Trace, trace};

/// Windows' own layers with one of the subject between them and one of Label Bridge behind; `through` is what
/// Label Bridge's connections pass through.
fn layered(through: &[u32]) -> Pc {
    let mut pc = desk();
    label_bridge(&mut pc);
    pc.file(&format!("{DESK}\\net.dll")).file("C:\\Program Files\\Fennelgate\\Label Bridge\\net.dll");
    let list = "HKLM\\SYSTEM\\ControlSet001\\Services\\WinSock2\\Parameters\\Protocol_Catalog9\\Catalog_Entries64";
    let libraries = [
        ("%SystemRoot%\\system32\\mswsock.dll".to_owned(), 1001, vec![1001]),
        (format!("{DESK}\\net.dll"), 1010, Vec::new()),
        (format!("{DESK}\\net.dll"), 1011, vec![1010, 1001]),
        ("C:\\Program Files\\Fennelgate\\Label Bridge\\net.dll".to_owned(), 1020, through.to_vec()),
    ];
    for (number, (library, id, chain)) in libraries.into_iter().enumerate() {
        let mut data = vec![0; 888];
        data[..library.len()].copy_from_slice(library.as_bytes());
        for (at, value) in [id, chain.len() as u32].into_iter().chain(chain).enumerate() {
            data[296 + 4 * at..300 + 4 * at].copy_from_slice(&value.to_le_bytes());
        }
        let value = RegValue { name: "PackedCatalogItem".into(), kind: 3, data };
        pc.raw(&format!("{list}\\{:012}", number + 1), value);
    }
    pc.raw(list.rsplit_once('\\').unwrap().0, RegValue::dword("Num_Catalog_Entries64", 4));
    pc
}

#[test]
fn a_network_layer_goes_with_its_library() {
    let trace = traced(&layered(&[1020, 1001]), "scale desk");
    let layers: Vec<_> = trace.remnants.iter().filter(|one| one.place.kind == PlaceKind::NetworkLayer).collect();
    assert_eq!(layers.len(), 1, "two entries of one library go together: {layers:#?}");
    assert_eq!((layers[0].decision, layers[0].standing), (Decision::Remove, Standing::Certain));
    assert!(with(&trace, Decision::Remove).contains(&DESK.to_owned()));
}

#[test]
fn a_network_layer_that_another_one_passes_through_stays_with_its_library() {
    let trace = traced(&layered(&[1020, 1010, 1001]), "scale desk");
    let layer = trace.remnants.iter().find(|one| one.place.kind == PlaceKind::NetworkLayer).unwrap();
    assert_eq!(layer.decision, Decision::Keep);
    assert_eq!(remnant(&trace, &format!("{DESK}\\net.dll")).unwrap().decision, Decision::Keep);
    assert!(with(&trace, Decision::Remove).contains(&format!("{DESK}\\desk.exe")));
}

#[test]
fn a_damaged_list_of_network_layers_is_left_alone() {
    let above = "HKLM\\SYSTEM\\ControlSet001\\Services\\WinSock2\\Parameters\\Protocol_Catalog9";
    let (mut gap, mut count) = (layered(&[1020, 1001]), layered(&[1020, 1001]));
    gap.remove(&format!("{above}\\Catalog_Entries64\\000000000001"));
    count.raw(above, RegValue::dword("Num_Catalog_Entries64", 5));
    for pc in [gap, count] {
        let trace = traced(&pc, "scale desk");
        let layer = trace.remnants.iter().find(|one| one.place.kind == PlaceKind::NetworkLayer).unwrap();
        assert_eq!((layer.decision, layer.reason.as_str()), (Decision::Keep, "the list that it stands in is damaged"));
    }
}

#[test]
fn a_library_whose_letters_are_of_another_code_page_is_found_on_the_disk() {
    let folder = "C:\\Program Files\\Сыр Учёт";
    let mut pc = Pc::new();
    pc.listed("cheese", "Сыр Учёт", "Fennelgate Instruments", folder).file(&format!("{folder}\\net.dll"));
    let list = "HKLM\\SYSTEM\\ControlSet001\\Services\\WinSock2\\Parameters\\Protocol_Catalog9";
    let mut data = b"C:\\Program Files\\\xD1\xFB\xF0 \xD3\xF7\xB8\xF2\\net.dll".to_vec();
    data.resize(888, 0);
    pc.raw(
        &format!("{list}\\Catalog_Entries\\000000000001"),
        RegValue { name: "PackedCatalogItem".into(), kind: 3, data },
    );
    pc.raw(list, RegValue::dword("Num_Catalog_Entries", 1));
    let trace = traced(&pc, "Сыр Учёт");
    let layer = trace.remnants.iter().find(|one| one.place.kind == PlaceKind::NetworkLayer).unwrap();
    assert_eq!(layer.decision, Decision::Remove);
}

#[test]
fn the_folder_of_a_task_goes_with_its_only_task() {
    let library = "C:\\Windows\\System32\\Tasks";
    let parts = |also: Option<&str>| {
        let mut pc = desk();
        pc.task("\\Fennelgate\\Round", &format!("{DESK}\\desk.exe"));
        if let Some(other) = also {
            pc.task(other, "C:\\Windows\\System32\\notepad.exe");
        }
        let trace = traced(&pc, "scale desk");
        let task = remnant(&trace, "\\Fennelgate\\Round").expect("it runs the subject's program");
        task.parts.iter().map(|part| part.path.clone()).collect::<Vec<_>>()
    };
    assert_eq!(parts(None), [format!("{library}\\Fennelgate")]);
    assert_eq!(parts(Some("\\Others")), [format!("{library}\\Fennelgate")]);
    assert_eq!(parts(Some("\\Fennelgate\\Others")), [format!("{library}\\Fennelgate\\Round")]);
}

#[test]
fn a_folder_of_tasks_goes_as_one_where_it_holds_nothing_else() {
    let cache = pc::TASK_CACHE;
    let parts = |tasks: &[(&str, &str)], wanted: &str| {
        let mut pc = desk();
        pc.tasks(tasks);
        let trace = traced(&pc, "scale desk");
        let is_task = |one: &&Remnant| one.place.kind == PlaceKind::Task && one.decision == Decision::Remove;
        let found: Vec<&Remnant> = trace.remnants.iter().filter(is_task).collect();
        let whole = found.iter().find(|one| one.place.path == wanted).expect("a remnant for it");
        (found.len(), whole.parts.iter().map(|part| part.path.clone()).collect::<Vec<_>>())
    };
    let (desk_exe, other) = (format!("{DESK}\\desk.exe"), "C:\\Windows\\System32\\notepad.exe");
    let (round, tare) = ("\\Fennelgate\\Round", "\\Fennelgate\\Night\\Tare");
    let by_id = |number: u8| format!("{cache}\\Tasks\\{{B61F52D7-8E40-4C12-9A53-0000000000{number:02}}}");
    let library = "C:\\Windows\\System32\\Tasks";
    let folders = [format!("{library}\\Fennelgate"), format!("{cache}\\Tree\\Fennelgate")];

    let (count, all) = parts(&[(round, &desk_exe), (tare, &desk_exe)], "\\Fennelgate");
    let mut wanted = folders.to_vec();
    wanted.extend([by_id(1), by_id(0)]);
    assert_eq!((count, all), (1, wanted), "both with their folder, and each with what is kept by its number");

    let (count, all) = parts(&[(round, &desk_exe), (tare, other)], round);
    let wanted = [format!("{library}{round}"), format!("{cache}\\Tree{round}"), by_id(0)];
    assert_eq!((count, all), (1, wanted.to_vec()), "the other one stays, and with it the folder");

    let (count, all) = parts(&[(round, &desk_exe)], round);
    let mut wanted = folders.to_vec();
    wanted.push(by_id(0));
    assert_eq!((count, all), (1, wanted));
}

#[test]
fn a_driver_goes_from_both_nodes_of_the_database_with_its_catalog() {
    let mut pc = desk();
    let catalog = "C:\\Windows\\System32\\catroot\\{F750E6C3-38EE-11D1-85E5-00C04FC295EE}\\oem7.cat";
    pc.driver("oem7.inf", "qlscale.inf", "Fennelgate Instruments").file(catalog);
    let other = "HKLM\\DRIVERS\\DriverDatabase";
    let store = "qlscale.inf_amd64_qlscale";
    pc.remove("HKLM\\SYSTEM\\DriverDatabase\\DriverPackages");
    pc.key(&format!("{other}\\DriverInfFiles\\oem7.inf"), &[("", store)]);
    pc.key(&format!("{other}\\DriverPackages\\{store}"), &[("", "oem7.inf"), ("InfName", "qlscale.inf")]);
    pc.key(&format!("{other}\\DeviceIds\\USB\\VID_9999"), &[("oem7.inf", ""), ("usbser.inf", "")]);
    let survey = pc.survey();
    let one =
        stubble_core::units::drivers::drivers(&survey).into_iter().find(|one| one.published == "oem7.inf").unwrap();
    let parts: Vec<String> = one.parts.iter().map(ToString::to_string).collect();
    for part in [
        catalog.to_owned(),
        format!("{other}\\DriverInfFiles\\oem7.inf"),
        format!("{other}\\DriverPackages\\{store}"),
        format!("{other}\\DeviceIds\\USB\\VID_9999 : oem7.inf"),
        "HKLM\\SYSTEM\\DriverDatabase\\DriverInfFiles\\oem7.inf".to_owned(),
    ] {
        assert!(parts.contains(&part), "{part} is not among {parts:#?}");
    }
    assert_eq!(one.folder.as_deref().map(|folder| folder.ends_with(store)), Some(true));
}

#[test]
fn a_driver_whose_registration_is_gone_is_known_by_its_inf() {
    let traced_with = |same: bool, others: bool, maker: &str| {
        let mut pc = desk();
        let sys = "C:\\Windows\\System32\\drivers\\oddport.sys";
        pc.inf("C:\\Windows\\INF\\oem7.inf", "Somebody Else", &["oddport.sys"], "one");
        pc.inf(
            &format!("{DESK}\\driver\\odd.inf"),
            "Somebody Else",
            &["oddport.sys"],
            if same { "one" } else { "two" },
        );
        pc.made_by(sys, maker).service("OddPort", sys, false);
        if others {
            pc.inf("C:\\Windows\\INF\\oem9.inf", "A Third", &["oddport.sys"], "three");
        }
        traced(&pc, "scale desk")
    };
    let has = |trace: &Trace, wanted: &str| with(trace, Decision::Remove).iter().any(|path| path == wanted);
    let trace = traced_with(true, false, "Somebody Else Ltd");
    assert!(has(&trace, "oem7.inf") && has(&trace, "OddPort"), "{:?}", with(&trace, Decision::Remove));
    let parts = &remnant(&trace, "oem7.inf").unwrap().parts;
    assert!(parts.iter().any(|part| part.path.ends_with("oddport.sys")), "its INF says that it brings it: {parts:?}");
    assert!(!has(&traced_with(false, false, ""), "oem7.inf"), "another INF");
    for (others, maker) in [(true, ""), (false, "Makers of Systems")] {
        let trace = traced_with(true, others, maker);
        let parts = &remnant(&trace, "oem7.inf").unwrap().parts;
        assert!(!parts.iter().any(|part| part.path.ends_with("oddport.sys")), "{others}, {maker}: {parts:?}");
        assert!(!has(&trace, "OddPort"), "{others}, {maker}: its service stays with it");
    }
}

#[test]
fn a_publishers_driver_is_taken_only_where_it_can_be_nobody_elses() {
    let decided = |edit: &dyn Fn(&mut Pc)| {
        let mut pc = desk();
        pc.driver("oem7.inf", "odd.inf", "Fennelgate Instruments");
        edit(&mut pc);
        let trace = traced(&pc, "scale desk");
        remnant(&trace, "oem7.inf").map(|one| one.decision)
    };
    let sys = "C:\\Windows\\System32\\drivers\\odd.sys";
    assert_eq!(decided(&|_| {}), Some(Decision::Ask), "Windows Update brings drivers of the same maker");
    assert_eq!(decided(&|pc| _ = pc.program(sys, "Quernlight Scale Desk")), Some(Decision::Remove));
    // The publisher has another product, or may have one in a list that nobody could read.
    assert_eq!(decided(&label_bridge), Some(Decision::Ask));
    assert_eq!(decided(&|pc| _ = pc.gap("C:\\Users\\night-shift\\NTUSER.DAT")), Some(Decision::Ask));
    assert_eq!(decided(&|pc| _ = pc.gap("HKU\\S-1-5-21-9")), Some(Decision::Ask));
    // It says itself that it is a part of something else.
    assert_eq!(decided(&|pc| _ = pc.program(sys, "Fennelgate Rind Ledger")), Some(Decision::Ask));
}

#[test]
fn what_32_bit_programs_load_from_their_own_folder_is_found_there() {
    let folder = "C:\\Program Files (x86)\\Fennelgate\\Scale Desk";
    let mut pc = Pc::new();
    pc.listed("desk", "Quernlight Scale Desk", "Fennelgate Instruments", folder).file(&format!("{folder}\\net.dll"));
    let names = "HKLM\\SYSTEM\\ControlSet001\\Services\\WinSock2\\Parameters\\NameSpace_Catalog5";
    let library = "%programfiles%\\Fennelgate\\Scale Desk\\net.dll";
    pc.key(&format!("{names}\\Catalog_Entries\\000000000001"), &[("LibraryPath", library)]);
    pc.raw(names, RegValue::dword("Num_Catalog_Entries", 1));
    let trace = traced(&pc, "scale desk");
    let layer = trace.remnants.iter().find(|one| one.place.kind == PlaceKind::NetworkLayer).unwrap();
    assert_eq!(layer.decision, Decision::Remove);
}

#[test]
fn a_store_package_is_found_by_what_people_call_it_or_by_its_own_name() {
    let mut pc = Pc::new();
    let packages = "Local Settings\\Software\\Microsoft\\Windows\\CurrentVersion\\AppModel\\Repository\\Packages";
    let at = format!("HKU\\{MAREN}_Classes\\{packages}");
    let label = "Fennelgate.LabelViewer_1.4.0.0_x64__8k2v0m1n3p4qr";
    pc.key(&format!("{at}\\{label}"), &[("DisplayName", "Pantry Labels")]);
    let resource = "@{Wheywise.VatMonitor_2.0.0.0_x64__1a2b3c4d5e6f7?ms-resource://Wheywise.VatMonitor/Resources/Name}";
    pc.key(&format!("{at}\\Wheywise.VatMonitor_2.0.0.0_x64__1a2b3c4d5e6f7"), &[("DisplayName", resource)]);
    pc.key(&format!("{at}\\Windows.Clock_1.0.0.0_x64__cw5n1h2txyewy"), &[("DisplayName", "Kitchen Clock")]);
    let survey = pc.survey();
    let registered = Registered::read(&survey);
    let place = |wanted: &str| match identify(&survey, &registered, &[], wanted) {
        Identified::One(subject) => {
            let found = trace(&survey, &registered, &subject).remnants;
            Some(found.into_iter().find(|one| one.place.kind == PlaceKind::StorePackage)?.place.path)
        }
        _ => None,
    };
    assert_eq!(place("pantry labels").as_deref(), Some(label));
    assert_eq!(place("vatmonitor").as_deref(), Some("Wheywise.VatMonitor_2.0.0.0_x64__1a2b3c4d5e6f7"));
    assert_eq!(place("kitchen clock"), None, "it is a part of Windows");
}
