//! What a damaged or contested case does.

// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

use crate::stage;

use stage::{stage, stage_in_use};
use stubble_core::model::{PlaceKind, RegValue};
use stubble_core::survey::compare::{Difference, compare};
use stubble_core::units::network;
use stubble_ledger::{Case, DeedState, Entry, LedgerError, Outcome, carry_out, discard, putback, restart};
use stubble_machine::{Above, Alter, Observe, parcel};

#[test]
fn a_torn_last_line_is_cut_and_the_work_goes_on() {
    let stage = stage();
    stage.fresh_case();
    stage.clear();
    let path = stage.case_folder().join("journal.jsonl");
    let text = std::fs::read(&path).unwrap();
    std::fs::write(&path, &text[..text.len() - 20]).unwrap();
    let lines = stage.case().journal.lines().len();
    assert_eq!(lines, text.iter().filter(|byte| **byte == b'\n').count() - 1);
    stage.undo();
    stage.assert_is(&stage.before, "after a torn line");
}

#[test]
fn a_changed_line_is_noticed() {
    let stage = stage();
    let path = stage.case_folder().join("journal.jsonl");
    let text = std::fs::read_to_string(&path).unwrap();
    std::fs::write(&path, text.replacen("ProgramData", "ProgramDatb", 1)).unwrap();
    let error = Case::open(&stage.case_folder()).unwrap_err();
    assert!(matches!(error, LedgerError::Damaged { .. }), "{error}");
    stage.assert_is(&stage.before, "after a refused case");
}

#[test]
fn a_case_is_held_by_one_at_a_time() {
    let stage = stage();
    let first = stage.case();
    assert!(matches!(Case::open(first.folder()), Err(LedgerError::Locked(_))));
    drop(first);
    stage.case();
}

#[test]
fn a_place_that_someone_made_again_is_not_overwritten() {
    let stage = stage();
    stage.fresh_case();
    stage.clear();
    let made = stage.folder.path().join("bench/disk/ProgramData/Scale Desk");
    std::fs::create_dir(&made).unwrap();
    std::fs::write(made.join("new.txt"), "somebody's").unwrap();
    let mut open = stage.case();
    let returned = putback(&mut open, &stage.bench, &[], &mut |_| {}).unwrap();
    let refused: Vec<_> = returned.iter().filter(|one| one.refused.is_some()).collect();
    assert_eq!(refused.len(), 1);
    assert_eq!(std::fs::read_to_string(made.join("new.txt")).unwrap(), "somebody's");
    assert_eq!(open.journal.deeds().iter().filter(|deed| deed.state == DeedState::Done).count(), 1);
    let left = compare(&stage.before, &stage.bench.survey().unwrap());
    assert!(
        left.iter().all(|one| one.how == Difference::Touched || one.place.path.contains("ProgramData\\Scale Desk"))
    );
}

#[test]
fn what_the_plan_does_not_find_any_more_is_said() {
    let stage = stage();
    std::fs::write(stage.folder.path().join("bench/disk/ProgramData/Scale Desk/cache.bin"), "other").unwrap();
    let mut open = stage.case();
    let reports = carry_out(&mut open, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    let changed: Vec<_> = reports.iter().filter(|report| report.outcome == Outcome::Changed).collect();
    assert_eq!(changed.len(), 1);
    assert!(changed[0].step.place.path.ends_with("ProgramData\\Scale Desk"));
    assert!(stage.folder.path().join("bench/disk/ProgramData/Scale Desk/cache.bin").is_file());
    let again = carry_out(&mut open, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    assert!(again.iter().all(|report| matches!(report.outcome, Outcome::AlreadyGone | Outcome::Changed)));
}

#[cfg(target_os = "linux")]
#[test]
fn a_case_on_another_file_system_holds_what_it_takes_on_the_machines_own() {
    let stage = stage();
    let Ok(other) = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")) else { return };
    let about = stage.case().about.clone();
    let mut open = Case::create(&other.path().join("case"), about).unwrap();
    let held = open.holding(&stage.bench, None).unwrap();
    assert!(held.starts_with(stage.folder.path()), "{}", held.display());
    let reports = carry_out(&mut open, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    assert!(reports.iter().all(|report| report.outcome == Outcome::Done), "{reports:?}");
    assert!(std::fs::read_dir(held).unwrap().count() > 1);
    putback(&mut open, &stage.bench, &[], &mut |_| {}).unwrap();
    stage.assert_is(&stage.before, "after the putback");
}

#[test]
fn what_is_in_use_goes_at_the_next_start() {
    let stage = stage_in_use();
    let mut case = stage.fresh_case();
    let place = "C:\\ProgramData\\Scale Desk";
    let there = || stage.bench.survey().unwrap().files.find(place).is_some();
    let outcome = |case: &mut Case| {
        let reports = carry_out(case, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
        let (wanted, others): (Vec<_>, Vec<_>) =
            reports.into_iter().partition(|report| report.step.place.path == place);
        assert!(others.iter().all(|report| report.outcome.is_settled()), "{others:#?}");
        wanted[0].outcome.clone()
    };
    let first = outcome(&mut case);
    assert!(matches!(&first, Outcome::PutOff { by, .. } if by.contains("clock.exe")), "{first:?}");
    assert!(there());
    // Without a restart it is tried again, and put off again.
    assert!(matches!(outcome(&mut case), Outcome::PutOff { .. }));
    putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
    stage.assert_is(&stage.before, "put back without a restart");

    assert!(matches!(outcome(&mut case), Outcome::PutOff { .. }));
    restart(&mut case, &stage.bench).unwrap();
    assert!(!there());
    assert_eq!(outcome(&mut case), Outcome::Done);
    putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
    stage.assert_is(&stage.before, "put back after a restart");

    // Somebody closes the program: no restart is needed.
    assert!(matches!(outcome(&mut case), Outcome::PutOff { .. }));
    let clock = "C:\\Program Files\\Sievewell\\clock.exe";
    stage.bench.end_process(clock).unwrap();
    assert_eq!(outcome(&mut case), Outcome::Done);
    assert!(!there());
    putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
    stage.bench.start_process(clock).unwrap();
    stage.assert_is(&stage.before, "put back after the program was closed");
}

#[test]
fn a_vault_that_was_tampered_with_gives_nothing_back() {
    let stage = stage();
    stage.fresh_case();
    stage.clear();
    let case = stage.case();
    assert_eq!(case.check_vault(&stage.bench).unwrap().faults, []);
    let vault = stage.case_folder().join("vault");
    let find = |name: &str| {
        let deeds = std::fs::read_dir(&vault).unwrap().map(|deed| deed.unwrap().path().join("0").join(name));
        deeds.filter(|path| path.exists()).collect::<Vec<_>>()
    };
    // Another file in the place of one that was taken.
    let taken = find("Scale Desk").into_iter().find(|path| path.join("cache.bin").exists()).unwrap();
    std::fs::write(taken.join("cache.bin"), "something else").unwrap();
    let faults = case.check_vault(&stage.bench).unwrap().faults;
    assert_eq!(faults.len(), 1, "{faults:?}");
    drop(case);
    let returned = putback(&mut stage.case(), &stage.bench, &[], &mut |_| {}).unwrap();
    let refused: Vec<_> = returned.iter().filter(|one| one.refused.is_some()).collect();
    assert_eq!(refused.len(), 1, "{refused:?}");
    assert!(stage.bench.survey().unwrap().files.find("C:\\ProgramData\\Scale Desk").is_none());
}

#[test]
fn a_record_that_was_edited_is_not_followed() {
    let stage = stage();
    stage.fresh_case();
    stage.clear();
    let deeds = stage.case().journal.deeds();
    let deed = deeds.into_iter().find(|deed| deed.place.path.starts_with("C:\\Program Files")).unwrap();
    let record = stage.case_folder().join("vault").join(format!("{:04}", deed.number)).join("record.json");
    let text = std::fs::read_to_string(&record).unwrap();
    std::fs::write(&record, text.replace("Program Files", "Windows")).unwrap();
    assert_eq!(stage.case().check_vault(&stage.bench).unwrap().faults.len(), 1);
    let returned = putback(&mut stage.case(), &stage.bench, &[], &mut |_| {}).unwrap();
    let refused: Vec<_> = returned.iter().filter_map(|one| one.refused.as_deref()).collect();
    assert!(matches!(refused[..], [why] if why.contains("not the record that the journal speaks of")), "{refused:?}");
    assert!(stage.bench.survey().unwrap().files.find("C:\\Windows\\Scale Desk").is_none());
}

/// What other programs have asked of the next start, with a flag and a deletion, as they spell it.
fn requests_of_others() -> RegValue {
    let lines = ["\\??\\C:\\Temp\\old.dll", "!\\??\\C:\\Temp\\new.dll", "\\??\\C:\\Temp\\gone.tmp", ""];
    RegValue::multi("PendingFileRenameOperations", &lines.map(str::to_owned))
}

/// Another case, or the product's own updater.
#[test]
fn what_others_have_asked_for_the_same_file_stays_and_the_step_waits() {
    let stage = stage_in_use();
    let key = "HKLM\\SYSTEM\\ControlSet001\\Control\\Session Manager";
    for target in ["", "\\??\\C:\\Temp\\kept.bin"] {
        let lines = ["\\??\\C:\\ProgramData\\Scale Desk", target].map(str::to_owned);
        let theirs = RegValue::multi("PendingFileRenameOperations", &lines);
        stage.bench.lend_value(key, &theirs).unwrap();
        let mut case = stage.fresh_case();
        let reports = carry_out(&mut case, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
        assert!(reports.iter().any(|report| matches!(report.outcome, Outcome::InUse { .. })), "{reports:#?}");
        assert_eq!(stage.bench.read_value(key, &theirs.name).unwrap().0, theirs);
        putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
        assert_eq!(stage.bench.read_value(key, &theirs.name).unwrap().0, theirs);
    }
}

#[test]
fn what_others_have_asked_of_the_next_start_is_not_changed() {
    let stage = stage_in_use();
    let key = "HKLM\\SYSTEM\\ControlSet001\\Control\\Session Manager";
    let theirs = requests_of_others();
    stage.bench.lend_value(key, &theirs).unwrap();
    let before = stage.bench.survey().unwrap();
    let mut case = stage.fresh_case();
    let reports = carry_out(&mut case, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    assert!(reports.iter().any(|report| matches!(report.outcome, Outcome::PutOff { .. })));
    let both = stage.bench.read_value(key, &theirs.name).unwrap().0.data;
    assert!(both.starts_with(&theirs.data[..theirs.data.len() - 2]) && both.len() > theirs.data.len());
    putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
    assert_eq!(stage.bench.read_value(key, &theirs.name).unwrap().0, theirs);
    stage.assert_is(&before, "called off");
}

#[test]
fn what_cannot_be_read_is_not_rewritten() {
    let stage = stage_in_use();
    let key = "HKLM\\SYSTEM\\ControlSet001\\Control\\Session Manager";
    let mut odd = requests_of_others();
    odd.data.truncate(odd.data.len() - 12);
    odd.data.push(7);
    stage.bench.lend_value(key, &odd).unwrap();
    let reports = carry_out(&mut stage.fresh_case(), &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    assert!(!reports.iter().any(|report| matches!(report.outcome, Outcome::PutOff { .. })));
    assert!(reports.iter().any(|report| matches!(&report.outcome, Outcome::InUse { .. })), "{reports:#?}");
    assert_eq!(stage.bench.read_value(key, &odd.name).unwrap().0, odd);
}

#[test]
fn an_undo_that_was_cut_and_then_contested_does_not_block_the_case() {
    let stage = stage();
    stage.fresh_case();
    stage.clear();
    let made = stage.folder.path().join("bench/disk/ProgramData/Scale Desk");
    let deed = {
        let deeds = stage.case().journal.deeds();
        deeds.into_iter().find(|deed| deed.place.path.ends_with("ProgramData\\Scale Desk")).unwrap().number
    };
    // The power failed right after the intent; then somebody made the folder again.
    stage.case().journal.append(Entry::UndoIntent { deed }).unwrap();
    std::fs::create_dir(&made).unwrap();
    let returned = putback(&mut stage.case(), &stage.bench, &[], &mut |_| {}).unwrap();
    assert_eq!(returned.iter().filter(|one| one.refused.is_some()).count(), 1, "{returned:#?}");
    std::fs::remove_dir(&made).unwrap();
    stage.undo();
    assert!(made.join("cache.bin").is_file());
}

#[test]
fn what_others_make_of_a_list_and_of_a_count_meanwhile_stays() {
    let stage = stage();
    let mut case = stage.fresh_case();
    let environment = "HKLM\\SYSTEM\\ControlSet001\\Control\\Session Manager\\Environment";
    let shared = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\SharedDLLs";
    let counted = "C:\\Program Files\\Scale Desk\\desk-1.dll";
    let read = |key: &str, name: &str| stage.bench.read_value(key, name).unwrap().0;
    carry_out(&mut case, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    assert_eq!(read(environment, "Path"), RegValue::expand("Path", "%SystemRoot%;C:\\Tools"));
    assert_eq!(read(shared, counted), RegValue::dword(counted, 1));
    // The last count goes with its value.
    assert!(stage.bench.read_value(shared, &counted.replace('1', "2")).is_err());
    // Going on changes nothing more.
    let again = carry_out(&mut case, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    assert!(again.iter().all(|report| report.outcome == Outcome::AlreadyGone), "{again:#?}");
    let others = RegValue::expand("Path", "D:\\New;%SystemRoot%;C:\\Tools;E:\\Last");
    stage.bench.lend_value(environment, &others).unwrap();
    stage.bench.lend_value(shared, &RegValue::dword(counted, 5)).unwrap();
    let returned = putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
    assert!(returned.iter().all(|one| one.refused.is_none()), "{returned:#?}");
    let both = "D:\\New;%SystemRoot%;C:\\Program Files\\Scale Desk;C:\\Tools;E:\\Last";
    assert_eq!(read(environment, "Path"), RegValue::expand("Path", both));
    assert_eq!(read(shared, counted), RegValue::dword(counted, 6));
}

#[cfg(target_os = "linux")]
#[test]
fn a_vault_on_another_file_system_holds_each_content_once_and_gives_everything_back() {
    let Some(stage) = stage::stage_elsewhere() else { return };
    let vault = stage.about.vault.clone().unwrap();
    let mut case = stage.fresh_case();
    let reports = carry_out(&mut case, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    assert!(reports.iter().all(|report| report.outcome == Outcome::Done), "{reports:?}");
    let own = std::fs::read_dir(&vault).unwrap().next().unwrap().unwrap().path();
    let contents = || std::fs::read_dir(own.join("contents")).unwrap().map(|entry| entry.unwrap().path());
    assert!(contents().count() > 1);
    let state = case.check_vault(&stage.bench).unwrap();
    assert!(state.entries > 2 && state.faults.is_empty(), "{state:?}");
    // Nothing of it is left on the machine's own disk.
    let left = case.holding(&stage.bench, None).unwrap();
    let files = left.read_dir().unwrap().flat_map(|deed| deed.unwrap().path().read_dir().into_iter().flatten());
    let held = files.flat_map(|piece| piece.unwrap().path().read_dir().into_iter().flatten());
    assert_eq!(held.filter(|entry| !entry.as_ref().unwrap().path().to_string_lossy().contains("registry")).count(), 0);
    // One content is damaged: its step stays taken, the rest comes back.
    let damaged = contents().next().unwrap();
    let whole = std::fs::read(&damaged).unwrap();
    std::fs::write(&damaged, [&whole[1..], b"?"].concat()).unwrap();
    assert!(!case.check_vault(&stage.bench).unwrap().faults.is_empty());
    let returned = putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
    assert!(returned.iter().any(|one| one.refused.is_some()), "{returned:#?}");
    std::fs::write(&damaged, whole).unwrap();
    let returned = putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
    assert!(returned.iter().all(|one| one.refused.is_none()), "{returned:#?}");
    stage.assert_is(&stage.before, "after the putback");
}

#[cfg(unix)]
#[test]
fn a_case_is_open_to_its_owner_only() {
    use std::os::unix::fs::PermissionsExt;
    let stage = stage();
    stage.fresh_case();
    let mode = std::fs::metadata(stage.case_folder()).unwrap().permissions().mode();
    assert_eq!(mode & 0o077, 0, "{mode:o}");
}

#[cfg(target_os = "linux")]
#[test]
fn what_is_half_carried_away_is_not_lost_when_the_other_disk_fails() {
    let Some(stage) = stage::stage_elsewhere() else { return };
    let vault = stage.about.vault.clone().unwrap();
    let mut case = stage.fresh_case();
    carry_out(&mut case, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    let own = std::fs::read_dir(&vault).unwrap().next().unwrap().unwrap().path();
    // As an interruption leaves it: the listing is there, and so is what it lists, here.
    let mut deeds = own.read_dir().unwrap().map(|entry| entry.unwrap().path());
    let deed = deeds.find(|deed| deed.join("0.json").is_file()).unwrap();
    let name = deed.file_name().unwrap().to_owned();
    let local = case.holding(&stage.bench, None).unwrap().join(name).join("0");
    let record =
        std::fs::read(case.folder().join("vault").join(deed.file_name().unwrap()).join("record.json")).unwrap();
    let record: serde_json::Value = serde_json::from_slice(&record).unwrap();
    let held = local.join(record[0]["name"].as_str().unwrap());
    parcel::unpack(&deed.join("0.json"), &own.join("contents"), &held).unwrap();
    for content in own.join("contents").read_dir().unwrap() {
        std::fs::write(content.unwrap().path(), "not what was written").unwrap();
    }
    let step = case
        .journal
        .deeds()
        .into_iter()
        .find(|one| format!("{:04}", one.number) == deed.file_name().unwrap().to_string_lossy());
    let returned = putback(&mut case, &stage.bench, &[step.unwrap().step], &mut |_| {}).unwrap();
    assert!(returned.iter().all(|one| one.refused.is_none()), "{returned:#?}");
}

#[cfg(target_os = "linux")]
#[test]
fn what_is_discarded_is_gone_and_the_rest_comes_back() {
    for stage in [Some(stage()), stage::stage_elsewhere()].into_iter().flatten() {
        let mut case = stage.fresh_case();
        carry_out(&mut case, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
        let gone = discard(&mut case, &stage.bench, &[]).unwrap();
        assert!(gone.len() >= 3 && gone.iter().all(|one| one.bytes > 0), "{gone:#?}");
        assert!(discard(&mut case, &stage.bench, &[]).unwrap().is_empty());
        if let Some(vault) = &stage.about.vault {
            let own = std::fs::read_dir(vault).unwrap().next().unwrap().unwrap().path();
            assert_eq!(own.join("contents").read_dir().unwrap().count(), 0);
        }
        let refused = putback(&mut case, &stage.bench, std::slice::from_ref(&gone[0].step), &mut |_| {}).unwrap();
        assert!(refused[0].refused.is_some());
        putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
        let key = "HKLM\\SOFTWARE\\Scale Desk\\Bridge";
        assert_eq!(stage.bench.read_value(key, "Port").unwrap().0, RegValue::dword("Port", 47310));
    }
}

#[test]
fn a_network_layer_comes_back_into_a_list_that_others_have_changed() {
    let stage = stage::stage_network();
    stage.fresh_case();
    stage.clear();
    let above = "HKLM\\SYSTEM\\ControlSet001\\Services\\WinSock2\\Parameters\\NameSpace_Catalog5";
    let list = format!("{above}\\Catalog_Entries64");
    let libraries = || -> Vec<String> {
        let survey = stage.bench.survey().unwrap();
        let count =
            survey.registry.value(survey.registry.key(above).unwrap(), "Num_Catalog_Entries64").unwrap().dword();
        let found = network::layers(&survey);
        assert_eq!(count, Some(found.len() as u32), "the count is that of the entries");
        found.iter().map(|layer| layer.library.rsplit_once('\\').unwrap().1.to_owned()).collect()
    };
    assert_eq!(libraries(), ["mswsock.dll", "winrnr.dll", "fgnames.dll"]);
    // Somebody else installs one more behind them.
    let mut more = stage.bench.read_key(&format!("{list}\\000000000003")).unwrap();
    more.name = "000000000004".to_owned();
    more.values.iter_mut().filter(|value| value.name == "LibraryPath").for_each(|value| {
        *value = RegValue::text("LibraryPath", "C:\\Program Files\\Sievewell\\clock.dll");
    });
    let now = stage.bench.read_key(&list).unwrap().last_written;
    let same = Above { before: now, after: now };
    stage.bench.restore_key(&format!("{list}\\000000000004"), &more, same).unwrap();
    stage.bench.lend_value(above, &RegValue::dword("Num_Catalog_Entries64", 4)).unwrap();
    stage.undo();
    assert_eq!(libraries(), ["mswsock.dll", "winrnr.dll", "fgnames.dll", "clock.dll", "qlnames.dll"]);
}

#[test]
fn a_library_stays_as_long_as_its_layer_could_not_be_taken() {
    let stage = stage::stage_network();
    stage.fresh_case();
    let above = "HKLM\\SYSTEM\\ControlSet001\\Services\\WinSock2\\Parameters\\NameSpace_Catalog5";
    let library = "C:\\Program Files\\Fennelgate\\Scale Desk\\qlnames.dll";
    // Somebody has changed the layer's own entry since the plan was made.
    let entry = format!("{above}\\Catalog_Entries64\\000000000002");
    stage.bench.lend_value(&entry, &RegValue::dword("Enabled", 0)).unwrap();
    let mut case = stage.case();
    let reports = carry_out(&mut case, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    let of = |path: &str| reports.iter().find(|report| report.step.place.path == path);
    let layer = reports.iter().find(|report| report.step.place.kind == PlaceKind::NetworkLayer).unwrap();
    assert_eq!(layer.outcome, Outcome::Changed);
    assert_eq!(of(library).unwrap().outcome, Outcome::Waits { needs: layer.step.id.clone() });
    assert!(stage.bench.survey().unwrap().exists(library));
    assert_eq!(of("C:\\Program Files\\Fennelgate\\Scale Desk\\desk.exe").unwrap().outcome, Outcome::Done);
}

#[test]
fn copies_of_the_registry_go_when_nothing_is_taken_any_more() {
    for stage in [stage(), stage::stage_installed("")] {
        stage.fresh_case();
        stage.clear();
        let vault = stage.case_folder().join("vault");
        let copies = || {
            let deeds = std::fs::read_dir(&vault).unwrap().map(|deed| deed.unwrap().path());
            let own = deeds.flat_map(|deed| [deed.join("registry"), deed.join("copies")]);
            own.chain([vault.join("registry")]).filter(|folder| folder.exists()).count()
        };
        assert!(copies() > 0);
        let first = stage.case().journal.deeds()[0].step.clone();
        putback(&mut stage.case(), &stage.bench, &[first], &mut |_| {}).unwrap();
        assert!(copies() > 0, "something is still taken");
        stage.undo();
        assert_eq!(copies(), 0, "after putback");
        stage.clear();
        assert!(copies() > 0);
        discard(&mut stage.case(), &stage.bench, &[]).unwrap();
        assert_eq!(copies(), 0, "after discard");
    }
}

/// With the vault on another disk a folder is moved aside, carried over and deleted; a file in it cannot be deleted.
#[cfg(target_os = "linux")]
#[test]
fn a_file_that_cannot_be_deleted_keeps_no_step_from_going_and_coming_back() {
    use std::process::Command;
    let Some(stage) = stage::stage_elsewhere() else { return };
    let disk = stage.folder.path().join("bench/disk");
    let flag = |sign: &str, path: &std::path::Path| {
        Command::new("chattr").arg(sign).arg(path).status().is_ok_and(|status| status.success())
    };
    let file = disk.join("ProgramData/Scale Desk/cache.bin");
    let inode = std::os::unix::fs::MetadataExt::ino(&std::fs::metadata(&file).unwrap());
    if !flag("+i", &file) {
        return; // Not a file system that has this, or not its administrator.
    }
    let mut case = stage.fresh_case();
    let reports = carry_out(&mut case, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    assert!(reports.iter().all(|report| report.outcome.is_settled()), "{reports:#?}");
    assert!(!file.exists());
    let returned = putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
    // The file that could not be deleted is still where it was moved aside.
    let mut open = vec![stage.folder.path().to_owned()];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            let meta = std::fs::symlink_metadata(&entry).unwrap();
            if std::os::unix::fs::MetadataExt::ino(&meta) == inode {
                assert!(flag("-i", &entry), "{}", entry.display());
            }
            if meta.is_dir() {
                open.push(entry);
            }
        }
    }
    assert!(returned.iter().all(|one| one.refused.is_none()), "{returned:#?}");
    stage.assert_is(&stage.before, "put back");
}
