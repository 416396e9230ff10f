//! The built `stubble.exe` in a Windows with a real package installer (Wine): products that are really
//! installed and really broken, setups that really fail, and whoever else is installed there as witness.
//!
//! `scripts/windows-suite.sh` makes what is needed and names it in `STUBBLE_WINDOWS` (a folder with
//! `stubble.exe`, the products' packages, and a prefix to copy).

mod wine;

use std::collections::BTreeSet;

use wine::{Windows, is_same};

/// What setup answers where a condition for launching does not hold.
const FATAL: u32 = 1603;
const WEIGH_3: &str = "{7C1D2A40-5B6E-4F83-9A27-3E0B1C5D8F61}";
const UNINSTALL: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Uninstall";
/// What Wine itself writes when it starts.
const STARTS: [&str; 2] = ["\\Software\\Wine", "\\CurrentVersion\\Fonts"];
/// The device of one of the products.
const PRESS: &str = "HKLM\\SYSTEM\\CurrentControlSet\\Enum\\ROOT\\PORTS\\0000";
const PACKED_WEIGH_3: &str = "04A2D1C7E6B538F4A972E3B0C1D5F816";

/// Ways in which an earlier product is half gone.
fn breakages() -> [(&'static str, fn(&Windows)); 5] {
    [
        ("its files were deleted by hand", |pc| pc.delete_tree("Program Files/Fennelgate/Weigh 3")),
        ("its entry is gone", |pc| pc.delete_key(&format!("{UNINSTALL}\\{WEIGH_3}"))),
        ("its cached package is gone", |pc| pc.delete_cached_packages("Quernlight Weigh 3")),
        ("files, entry and cached package are gone", |pc| {
            pc.delete_cached_packages("Quernlight Weigh 3");
            pc.delete_tree("Program Files/Fennelgate/Weigh 3");
            pc.delete_key(&format!("{UNINSTALL}\\{WEIGH_3}"));
        }),
        ("half of its registration is gone", |pc| {
            pc.delete_key(&format!("HKLM\\SOFTWARE\\Classes\\Installer\\Features\\{PACKED_WEIGH_3}"));
            pc.delete_tree("Program Files/Fennelgate/Weigh 3");
        }),
    ]
}

#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn an_earlier_product_that_is_half_gone_is_found_and_setup_works_afterwards() {
    for (number, (how, break_it)) in breakages().into_iter().enumerate() {
        let pc = Windows::with(&format!("half-gone-{number}"), &["weigh-3", "label-bridge", "recipes"]);
        break_it(&pc);
        pc.opened("scale desk", "scale-desk-5.2");
        let (code, check) = pc.json(&["check"]);
        let text = check.to_string();
        assert_eq!(code, 1, "{how}: {text}");
        assert!(text.contains("Quernlight Weigh 3 must be removed"), "{how}: {text}");
        assert_eq!(pc.install("scale-desk-5.2"), FATAL, "{how}: what was predicted happens");
        let before = pc.state();
        pc.works(&["plan"], how);
        pc.works(&["clear", "--yes"], how);
        assert!(pc.state() != before, "{how}");
        pc.works(&["putback", "--yes"], how);
        pc.is_as(&before, how);
        pc.works(&["clear", "--yes"], how);
        pc.works(&["install", "--yes"], how);
        let (code, receipt) = pc.json(&["confirm"]);
        assert_eq!(code, 0, "{how}: {receipt:#}");
        pc.others_are_well(how);
    }
}

#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn a_service_goes_and_comes_back_running() {
    let pc = Windows::with("service", &["label-bridge", "recipes", "scale-desk-5.1"]);
    assert!(pc.service_runs("FennelgateScaleBridge"));
    pc.delete_cached_packages("Quernlight Scale Desk");
    pc.opened("scale desk", "scale-desk-5.2");
    let before = pc.state();
    pc.works(&["plan"], "");
    pc.works(&["clear", "--yes"], "");
    assert!(!pc.service_is_known("FennelgateScaleBridge"), "the manager of services has forgotten it");
    pc.works(&["putback", "--yes"], "");
    assert!(pc.service_runs("FennelgateScaleBridge"));
    pc.is_as(&before, "after putback");
    pc.works(&["clear", "--yes"], "");
    pc.works(&["install", "--yes"], "");
    assert!(pc.service_runs("FennelgateScaleBridge"));
    let (code, receipt) = pc.json(&["confirm"]);
    assert_eq!(code, 0, "{receipt:#}");
    pc.others_are_well("after the new install");
}

/// The manager of services still takes it for running for a while.
#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn a_service_whose_program_was_killed_goes_all_the_same() {
    let pc = Windows::with("dead-service", &["label-bridge", "recipes", "scale-desk-5.1"]);
    pc.kill("bridge.exe");
    pc.delete_cached_packages("Quernlight Scale Desk");
    pc.opened("scale desk", "scale-desk-5.2");
    pc.works(&["plan"], "");
    pc.works(&["clear", "--yes"], "");
    assert!(!pc.service_is_known("FennelgateScaleBridge"), "the manager of services has forgotten it");
    pc.works(&["install", "--yes"], "");
    assert!(pc.service_runs("FennelgateScaleBridge"));
    let (code, receipt) = pc.json(&["confirm"]);
    assert_eq!(code, 0, "{receipt:#}");
    pc.others_are_well("after a dead service");
}

#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn a_program_that_was_installed_is_started_and_looked_at() {
    let pc = Windows::fresh("started");
    pc.opened("", "scale-desk-5.2");
    // What was chosen may be gone by then: its copy in the case is run.
    pc.works(&["payload", "--choose", "C:\\setup\\scale-desk-5.2.msi"], "");
    pc.delete_file("setup/scale-desk-5.2.msi");
    let (code, told) = pc.stubble(&["install", "--yes"]);
    assert!(code == 0 && told.contains("the copy of C:\\setup\\scale-desk-5.2.msi in the case"), "{told}");
    let start = ["confirm", "--start", "C:\\Program Files\\Fennelgate\\Scale Desk\\desk.exe", "--watch", "4"];
    let (code, receipt) = pc.json(&start);
    assert_eq!(code, 0, "{receipt:#}");
    assert_eq!(receipt["started"]["stays"], "yes", "{receipt:#}");
    assert!(receipt["started"].to_string().contains("Quernlight Scale Desk"), "its window: {receipt:#}");
    assert!(!pc.runs("desk.exe"), "it was ended");
    // A file that is no program any more.
    pc.overwrite("Program Files/Fennelgate/Scale Desk/desk.exe", "Program Files/Fennelgate/Scale Desk/notes.txt");
    let (code, receipt) = pc.json(&start);
    assert_eq!(code, 1, "{receipt:#}");
    assert_eq!(receipt["started"]["stays"], "no", "{receipt:#}");
}

/// A setup program has no tables: how it runs tells a mark in it, and what it brought tells the difference.
#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn a_setup_program_runs_without_questions_and_is_confirmed() {
    let pc = Windows::with("program", &["label-bridge", "recipes"]);
    assert_eq!(pc.run_setup("batch-clock"), 0);
    pc.delete_tree("Program Files/Sievewell/Batch Clock");
    let setup = "C:\\setup\\batch-clock.exe";
    pc.works(&["open", "Sievewell Batch Clock", "--on", "here", "--payload", setup], "");
    pc.works(&["plan"], "");
    pc.works(&["clear", "--yes"], "");
    let (code, told) = pc.stubble(&["install", "--yes"]);
    assert!(code == 0 && told.contains("a script-made setup program"), "{told}");
    let (code, told) = pc.stubble(&["confirm"]);
    assert!(code == 0 && told.contains("is still there"), "{told}");
    println!("{told}");
    let (_, receipt) = pc.json(&["confirm"]);
    assert!(receipt["install"]["files"].as_u64() >= Some(3), "{receipt:#}");
    let program = "Program Files/Sievewell/Batch Clock/clock.exe";
    pc.delete_file(program);
    let (code, receipt) = pc.json(&["confirm"]);
    assert_eq!(code, 1, "{receipt:#}");
    assert!(receipt["install"]["findings"].to_string().contains("clock.exe"), "{receipt:#}");
    pc.others_are_well("beside a setup program");
}

/// Setup waits for a program of its own that never ends.
#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn a_setup_that_stands_still_is_told_and_ended_where_that_is_asked_for() {
    let pc = Windows::with("stalls", &["label-bridge"]);
    let before = pc.places();
    pc.opened("", "stalls");
    let (code, told) = pc.stubble(&["install", "--yes", "--limit", "1"]);
    assert_eq!(code, 1, "{told}");
    for part in ["longer than was allowed", "it runs", "pair.exe"] {
        assert!(told.contains(part), "{part}: {told}");
    }
    assert!(!pc.runs("pair.exe") && !pc.runs("msiexec.exe"), "{told}");
    let left: Vec<String> = pc.places().difference(&before).cloned().collect();
    let is_program = |place: &&String| place.contains("Scale Pairing");
    assert_eq!(left.iter().find(is_program), None, "setup has undone what it did: {left:#?}");
    pc.others_are_well("after a setup that was ended");
}

/// Whose a place is tells the difference that its own install makes, by the system's own export of the
/// registry and the list of files.
#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn what_is_taken_is_what_the_install_has_brought() {
    let pc = Windows::with("truth", &["label-bridge", "recipes"]);
    let before = pc.places();
    assert_eq!(pc.install("scale-desk-5.1"), 0);
    let own: BTreeSet<String> = pc.places().difference(&before).cloned().collect();
    pc.opened("scale desk", "scale-desk-5.2");
    pc.works(&["plan"], "");
    pc.works(&["clear", "--yes"], "");
    let after = pc.places();
    let left: Vec<&String> = after.difference(&before).filter(|place| !is_windows(place)).collect();
    // The product's own uninstaller takes a key that it leaves empty, also where it found it empty.
    let is_emptied = |place: &&String| place.ends_with("\\CurrentVersion\\Run]");
    let wrong: Vec<&String> = before.difference(&after).filter(|place| !is_emptied(place)).collect();
    assert!(wrong.is_empty(), "taken, and not the product's: {wrong:#?}");
    let recall = 1.0 - left.len() as f64 / own.len() as f64;
    println!("places that the install brought: {}, left: {}, recall {recall:.4}", own.len(), left.len());
    assert!(own.len() > 20 && recall >= 0.99, "left of {}: {left:#?}", own.len());
}

/// People have programs installed on a second drive: what is taken there is held there.
#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn a_product_on_a_second_drive_goes_and_comes_back() {
    let pc = Windows::with("drives", &["label-bridge", "recipes"]);
    pc.keeps_on_second_drive("Dairy/2026-02.qwl");
    let before = pc.places();
    assert_eq!(pc.install_into("scale-desk-5.1", "D:\\Dairy\\Scale Desk"), 0);
    let with_it = pc.state();
    let own: BTreeSet<String> = with_it.places().difference(&before).cloned().collect();
    let on_second = |places: &BTreeSet<String>| places.iter().filter(|place| place.starts_with("D:\\Dairy")).count();
    assert!(on_second(&own) >= 5, "{own:?}");
    pc.delete_cached_packages("Quernlight Scale Desk");
    let broken = pc.state();
    pc.opened("scale desk", "scale-desk-5.2");
    let (code, told) = pc.stubble(&["borrow", "network", "--yes"]);
    assert!(code == 3 && told.contains("not possible"), "this Windows has no adapters that are hardware: {told}");
    pc.works(&["plan"], "");
    let (code, told) = pc.stubble(&["clear", "--yes"]);
    assert!(code == 0 && told.contains("no restore point") && !told.contains("not given back"), "{told}");
    let after = pc.places();
    let left: Vec<&String> = after.difference(&before).filter(|place| !is_windows(place)).collect();
    let wrong: Vec<&String> = before.difference(&after).collect();
    assert!(wrong.is_empty() && left.is_empty(), "taken, and not the product's: {wrong:#?}; left: {left:#?}");
    assert!(pc.holds_on_second_drive(), "a rename, and no copy to the first one");
    pc.works(&["putback", "--yes"], "");
    pc.is_as(&broken, "with the second drive");
    println!("places that the install brought: {}, on the second drive: {}", own.len(), on_second(&own));
}

/// Packages and script-made setups, for everybody and for one user, with services, shortcuts, file types, and several
/// versions side by side, one after the other on one machine: each is a bystander of the next.
#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn products_of_every_kind_go_as_their_install_has_come() {
    let pc = Windows::with("kinds", &["label-bridge", "recipes"]);
    let products = [
        ("batch-clock", "Sievewell Batch Clock"),
        ("cheese-ledger", "Rindwell Cheese Ledger"),
        ("vat-monitor", "Wheywise Vat Monitor"),
        ("label-fonts", "Churnwright Label Fonts"),
        ("ripening-room", "Curdmere Ripening Room"),
        ("tare-book", "Hayloft Tare Book"),
        ("press-room", "Curdmere Press Room"),
    ];
    let (mut all, mut left_of_all) = (0, 0);
    for (setup, name) in products {
        let before = pc.places();
        if pc.has_package(setup) {
            assert_eq!(pc.install(setup), 0, "{name}");
            pc.delete_cached_packages(name);
        } else {
            assert_eq!(pc.run_setup(setup), 0, "{name}");
        }
        let with_it = pc.state();
        let own: BTreeSet<String> = with_it.places().difference(&before).cloned().collect();
        pc.works(&["open", name, "--on", "here", "--case", setup], name);
        let kept = pc.kept(setup);
        pc.works(&["plan", "--case", setup], name);
        pc.works(&["clear", "--yes", "--case", setup], name);
        let after = pc.places();
        let has_device = setup == "press-room";
        assert!(!pc.has_key(PRESS), "{name}: the system has let go of its device");
        let is_kept =
            |place: &str| kept.iter().any(|kept| place.contains(kept.as_str()) || kept.starts_with(key(place)));
        let wrong: Vec<&String> = before.difference(&after).collect();
        assert!(wrong.is_empty(), "taken, and not {name}'s: {wrong:#?}");
        let left = after.difference(&before).filter(|place| !is_windows(place) && !is_kept(place));
        let left: Vec<&String> = left.collect();
        println!("{name}: {} places came with it, kept {kept:?}, left: {left:?}", own.len());
        assert!(own.len() >= 4, "{name}: {own:?}");
        (all, left_of_all) = (all + own.len(), left_of_all + left.len());
        pc.works(&["putback", "--yes", "--case", setup], name);
        pc.is_as(&with_it, name);
        assert_eq!(pc.has_key(PRESS), has_device, "{name}: its device is back");
    }
    let recall = 1.0 - f64::from(left_of_all as u32) / f64::from(all as u32);
    println!("places of {} products: {all}, left: {left_of_all}, recall {recall:.4}", products.len());
    assert!(recall >= 0.99, "left: {left_of_all} of {all}");
    pc.others_are_well("beside six other products");
}

/// Windows itself notes that there was a service, and keeps folders that it shares out.
fn is_windows(place: &str) -> bool {
    let place = place.to_uppercase();
    let shared = [
        "\\APPDATA\\LOCAL\\PROGRAMS",
        "\\CURRENTVERSION\\UNINSTALL]",
        "\\MICROSOFT\\INSTALLER]",
        "\\INSTALLER\\FEATURES]",
        "\\PRODUCTS]",
        "\\UPGRADECODES]",
        "\\COMPONENTS]",
    ];
    // A user's classes are in a hive of their own on Windows, and are looked for there; Wine has them in his settings.
    let parts = ["\\CONTROL\\SERVICECURRENT", "\\WINDOWS\\TEMP\\", "HKEY_CURRENT_USER\\SOFTWARE\\CLASSES"];
    let is_users_part = place.rsplit_once("\\USERDATA\\").is_some_and(|(_, user)| !user.contains('\\'));
    is_users_part || shared.iter().any(|end| place.ends_with(end)) || parts.iter().any(|part| place.contains(part))
}

/// A key of the user's, as it goes on behind `Software`.
fn key(place: &str) -> &str {
    place.strip_prefix("[HKEY_CURRENT_USER\\Software\\").map_or("no key of his", |rest| rest.trim_end_matches(']'))
}

fn is_thorough() -> bool {
    std::env::var_os("STUBBLE_PROOF").is_some_and(|proof| proof == "all")
}

/// What `check` says of a package, against what the package installer answers.
#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn predictions_are_what_the_package_installer_answers() {
    let products = ["weigh-3", "scale-desk-5.1", "scale-desk-5.2", "label-bridge", "recipes"];
    // Two that our own writer of packages has made, for the bench.
    let made = ["made-clock", "made-recipes"];
    let mut tried = 0;
    for (number, there) in [
        &[][..],
        &["weigh-3"],
        &["scale-desk-5.1"],
        &["scale-desk-5.2"],
        &["label-bridge", "recipes"],
        &["scale-desk-5.1", "weigh-3"],
        &made,
    ]
    .into_iter()
    .enumerate()
    {
        let of_ours = made.iter().filter(|_| there.is_empty() || there == made);
        for payload in products.iter().filter(|_| there != made).chain(of_ours) {
            let pc = Windows::with(&format!("predict-{number}-{payload}"), there);
            pc.opened("", payload);
            let (_, check) = pc.json(&["check"]);
            let blockers = check["blockers"].as_array().cloned().unwrap_or_default();
            let stops = blockers.iter().any(|blocker| blocker["severity"] == "will-fail");
            let answer = pc.install(payload);
            assert_eq!(stops, answer != 0, "{payload} where {there:?} is: answered {answer}, told {check:#}");
            tried += 1;
        }
    }
    println!("predictions compared: {tried}");
}

/// What the evaluation of conditions says, against what the package installer makes of them: each on a machine
/// with what the searches look for, and on one without.
#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn conditions_mean_what_the_package_installer_takes_them_for() {
    let conditions = std::fs::read_to_string("conditions/conditions.txt").unwrap();
    let conditions: Vec<&str> = conditions.lines().filter(|line| !line.is_empty()).collect();
    assert!(conditions.len() >= 40);
    let mut problems = Vec::new();
    for there in [&[][..], &["weigh-3", "label-bridge"]] {
        let pc = Windows::with("conditions", there);
        let (mut refused, mut compared) = (0, 0);
        // The second machine is for those that ask what is there.
        let asks = |condition: &str| ["WEIGH3", "LABEL", "Installed"].iter().any(|name| condition.contains(name));
        for (number, condition) in conditions.iter().enumerate().filter(|(_, one)| there.is_empty() || asks(one)) {
            // Each takes eight seconds; three of four are as many as one has time for every day.
            if there.is_empty() && number % 4 == 3 && !is_thorough() {
                continue;
            }
            compared += 1;
            let payload = format!("trial-{}", number + 1);
            let package = format!("C:\\setup\\{payload}.msi");
            pc.works(&["open", "--on", "here", "--payload", &package, "--case", &payload], condition);
            let (_, check) = pc.json(&["check", "--case", &payload]);
            let blockers = check["blockers"].as_array().cloned().unwrap_or_default();
            let stops = blockers.iter().any(|blocker| blocker["rule"] == "payload-refuses");
            let answer = pc.install(&payload);
            refused += usize::from(answer != 0);
            if stops != (answer != 0) {
                problems.push(format!("`{condition}` where {there:?} is: told {stops}, answered {answer}"));
            }
        }
        println!("conditions compared: {compared}, {refused} of them refused");
        assert!(refused > 1 && refused + 1 < compared && compared > 6);
    }
    assert!(problems.is_empty(), "{problems:#?}");
}

/// Everything in a console hears what is said there.
#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn a_program_without_a_window_is_told_by_its_console_where_it_is_alone() {
    for (alone, wanted) in [(true, Some("event 0\r\n")), (false, None)] {
        let pc = Windows::with("console", &["label-bridge", "scale-desk-5.1"]);
        pc.delete_cached_packages("Quernlight Scale Desk");
        pc.starts_in_console("C:\\Program Files\\Fennelgate\\Scale Desk\\desk.exe", alone, "C:\\work\\heard.txt");
        pc.opened("scale desk", "scale-desk-5.2");
        pc.works(&["plan"], "");
        pc.works(&["clear", "--yes"], "");
        assert!(!pc.runs("desk.exe"), "alone: {alone}");
        assert_eq!(pc.text("work/heard.txt").as_deref(), wanted, "alone: {alone}");
        pc.others_are_well("after a program without a window");
    }
}

/// What a running program holds is moved by Windows itself, when it starts the next time.
#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn what_is_in_use_goes_at_the_next_start_and_comes_back() {
    let pc = Windows::with("restart", &["label-bridge", "recipes", "scale-desk-5.2"]);
    pc.delete_cached_packages("Quernlight Scale Desk");
    let before = pc.state();
    pc.starts("C:\\Program Files\\Fennelgate\\Scale Desk\\desk.exe");
    pc.opened("scale desk", "scale-desk-5.2");
    // Somebody works in it: it is not to be ended.
    let (_, plan) = pc.json(&["plan"]);
    let steps = plan["step"].as_array().cloned().unwrap_or_default();
    let ends = steps.iter().find(|step| step["kind"] == "end-process").expect("a step that ends it");
    pc.works(&["plan", "--keep", ends["id"].as_str().unwrap()], "");
    let (code, told) = pc.stubble(&["clear", "--yes"]);
    assert!(code != 0 && told.contains("next start"), "{code}: {told}");
    assert!(pc.runs("desk.exe"), "{told}");
    pc.restart();
    assert!(!pc.runs("desk.exe"));
    pc.works(&["resume", "--yes"], "after the restart");
    assert!(!pc.has("Program Files/Fennelgate/Scale Desk"));
    let (_, receipt) = pc.json(&["confirm"]);
    assert_eq!(receipt["clean"], "yes", "{receipt:#}");
    pc.works(&["putback", "--yes"], "after the restart");
    is_same(&pc.state().without(&STARTS), &before.without(&STARTS), "after the restart");
    pc.others_are_well("after a restart");
}

#[test]
#[ignore = "needs Wine; scripts/windows-suite.sh runs it"]
fn killed_at_any_moment_the_work_is_finished_or_undone() {
    let rounds = if is_thorough() { 24 } else { 6 };
    let pc = Windows::with("killed", &["label-bridge", "scale-desk-5.1"]);
    pc.delete_cached_packages("Quernlight Scale Desk");
    pc.opened("scale desk", "scale-desk-5.2");
    pc.works(&["plan"], "");
    let before = pc.state().without(&STARTS);
    let whole = pc.time_of(&["clear", "--yes"]);
    let cleared = pc.state().without(&STARTS).whenever();
    pc.works(&["putback", "--yes"], "");
    is_same(&pc.state().without(&STARTS), &before, "before the kills");
    for round in 0..rounds {
        let at = whole.mul_f64(f64::from(round + 1) / f64::from(rounds + 1));
        let was_killed = pc.killed_after(at, &["clear", "--yes"]);
        let how = format!("killed after {at:?} of {whole:?} ({was_killed}), round {round}");
        if round % 3 == 2 {
            pc.restart();
        }
        if round % 2 == 0 {
            pc.works(&["resume", "--yes"], &how);
            // Killed before its first step, there is nothing to resume, and clear begins.
            pc.works(&["clear", "--yes"], &how);
            is_same(&pc.state().without(&STARTS).whenever(), &cleared, &how);
        }
        pc.works(&["putback", "--yes"], &how);
        is_same(&pc.state().without(&STARTS), &before, &how);
    }
}
