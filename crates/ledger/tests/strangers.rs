//! Cases and machines that are not what they seem: another machine at the same path, an older copy of it, case folders
//! that somebody has forged or cut.

// Tests break cases in temporary folders.
#![allow(clippy::disallowed_methods)]

use crate::stage;

use std::fs;
use std::path::Path;
use std::process::Command;

use stage::{Stage, stage};
use stubble_core::loans::offered;
use stubble_core::survey::Identity;
use stubble_ledger::{Case, LedgerError, borrow, carry_out, discard, putback};
use stubble_machine::Observe;
use stubble_machine::bench::Bench;

fn cleared() -> Stage {
    let stage = stage();
    stage.fresh_case();
    stage.clear();
    stage
}

/// Writes the file of what a case is about with another text in it.
fn with_about(stage: &Stage, old: &str, new: &str) {
    let path = stage.case_folder().join("case.json");
    let text = fs::read_to_string(&path).unwrap();
    assert!(text.contains(old), "{text}");
    fs::write(path, text.replace(old, new)).unwrap();
}

#[test]
fn another_machine_at_the_same_path_is_refused_before_anything_is_written() {
    let stage = cleared();
    let own = stage.bench.survey().unwrap().facts.identity.guid;
    with_about(&stage, &own, "7b1d6a52-0000-4000-a000-9f3c2e8d1a40");
    let before = stage.bench.survey().unwrap();
    let case = &mut stage.case();
    let refusals = [
        putback(case, &stage.bench, &[], &mut |_| {}).err(),
        discard(case, &stage.bench, &[]).err(),
        carry_out(case, &stage.bench, &stage.plan, &mut |_| {}).err(),
        stubble_ledger::give_back(case, &stage.bench, &|_| true).err(),
    ];
    for refusal in refusals {
        assert!(matches!(refusal, Some(LedgerError::OtherMachine { .. })), "{refusal:?}");
    }
    assert_eq!(stage::differences(&before, &stage.bench.survey().unwrap()), []);
}

#[test]
fn machines_are_told_apart_by_what_both_know() {
    let known = |guid: &str, volume: &str, installed| Identity { guid: guid.into(), volume: volume.into(), installed };
    let one = known("a", "b", Some(1));
    assert_eq!(one.difference(&known("a", "b", Some(2))), None, "an upgrade sets the date again");
    assert_eq!(one.difference(&Identity::default()), None);
    assert!(one.difference(&known("x", "b", Some(1))).is_some());
    assert!(one.difference(&known("a", "x", Some(1))).is_some());
    assert!(known("", "", Some(1)).difference(&known("", "", Some(2))).is_some());
}

#[test]
fn a_copy_from_before_the_plan_gets_nothing_and_what_is_held_stays() {
    let stage = stage();
    let kept = stage.folder.path().join("older");
    assert!(Command::new("cp").arg("-a").arg(stage.folder.path().join("bench")).arg(&kept).status().unwrap().success());
    stage.fresh_case();
    stage.clear();
    let older = Bench::open(&kept).unwrap();
    let before = older.survey().unwrap();
    let case = &mut stage.case();
    for refusal in [putback(case, &older, &[], &mut |_| {}).err(), discard(case, &older, &[]).err()] {
        assert!(matches!(refusal, Some(LedgerError::OlderState { places, .. }) if places > 2), "{refusal:?}");
    }
    assert_eq!(stage::differences(&before, &older.survey().unwrap()), []);
    putback(case, &stage.bench, &[], &mut |_| {}).unwrap();
    stage.assert_is(&stage.before, "the copy on which it ran gets everything back");
}

/// Rewrites every record and chains the journal anew, as anybody can who has the folder.
fn forge(folder: &Path, change: &dyn Fn(&str) -> String) -> usize {
    let mut forged = 0;
    let mut digests = Vec::new();
    for deed in fs::read_dir(folder.join("vault")).unwrap().map(|entry| entry.unwrap().path()) {
        // One deed's record, or those of deeds that were done together, one a line.
        for (name, end) in [("record.json", ""), ("records.jsonl", "\n")] {
            let Ok(text) = fs::read_to_string(deed.join(name)) else { continue };
            let lines = text.lines().map(|line| {
                let new = change(line);
                forged += usize::from(new != line);
                digests.push((digest(line.as_bytes()), digest(new.as_bytes())));
                new + end
            });
            fs::write(deed.join(name), lines.collect::<String>()).unwrap();
        }
    }
    let journal = folder.join("journal.jsonl");
    let mut chain = String::new();
    let mut out = String::new();
    for line in fs::read_to_string(&journal).unwrap().lines() {
        let (mut line, _) = line.rsplit_once(",\"chain\"").map(|(plain, end)| (plain.to_owned() + "}", end)).unwrap();
        for (old, new) in &digests {
            line = line.replace(old, new);
        }
        let mut hasher = blake3::Hasher::new();
        hasher.update(chain.as_bytes()).update(line.as_bytes());
        chain = hasher.finalize().to_hex()[..16].to_owned();
        out += &format!("{},\"chain\":\"{chain}\"}}\n", line.strip_suffix('}').unwrap());
    }
    fs::write(journal, out).unwrap();
    forged
}

fn digest(bytes: &[u8]) -> String {
    stubble_ledger::short_digest(bytes)
}

#[test]
fn a_forged_name_in_a_record_leads_nowhere() {
    for name in ["../../../../outside", "/outside", "..", "", "a\\\\b", "other"] {
        let stage = cleared();
        let outside = stage.folder.path().join("outside");
        fs::create_dir(&outside).unwrap();
        fs::write(outside.join("theirs"), "theirs").unwrap();
        let absolute = name.replace("/outside", &outside.display().to_string());
        let forged = forge(&stage.case_folder(), &|text| {
            // The entry's name stands behind its path; keys have names as well.
            let entry = "Scale Desk\",\"name\":\"Scale Desk\"";
            text.replace(
                entry,
                &format!("Scale Desk\",\"name\":\"{}\"", if name == "/outside" { &absolute } else { name }),
            )
        });
        assert!(forged > 0);
        let mut case = stage.case();
        let returned = putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
        assert!(returned.iter().any(|one| one.refused.is_some()), "{name}");
        assert!(discard(&mut case, &stage.bench, &[]).is_err(), "{name}");
        assert_eq!(fs::read_to_string(outside.join("theirs")).unwrap(), "theirs");
    }
}

#[test]
fn a_journal_that_was_deleted_or_cut_is_noticed_while_the_vault_is_full() {
    for keep in [0, 1, 4, 9] {
        let stage = cleared();
        let journal = stage.case_folder().join("journal.jsonl");
        let text = fs::read_to_string(&journal).unwrap();
        let lines: Vec<&str> = text.split_inclusive('\n').take(keep).collect();
        fs::write(&journal, lines.concat()).unwrap();
        let opened = Case::open(&stage.case_folder());
        assert!(matches!(opened, Err(LedgerError::Damaged { .. })), "{keep} lines: {:?}", opened.err());
    }
}

/// A listing in a chosen vault has a digest in the journal, and the copies for an uninstaller have theirs in the record.
#[cfg(target_os = "linux")]
#[test]
fn a_listing_that_was_changed_is_refused_each_time() {
    let Some(stage) = stage::stage_elsewhere() else { return };
    stage.fresh_case();
    stage.clear();
    let vault = stage.about.vault.clone().unwrap();
    let own = fs::read_dir(&vault).unwrap().next().unwrap().unwrap().path();
    let listings = fs::read_dir(&own).unwrap().map(|deed| deed.unwrap().path().join("0.json"));
    let mut changed = 0;
    for listing in listings.filter(|listing| listing.is_file()) {
        let text = fs::read_to_string(&listing).unwrap();
        // Rights are in no state: only the digest tells.
        let other = text.replace("\"mode\":", "\"mode\": ");
        assert_ne!(text, other);
        fs::write(&listing, other).unwrap();
        changed += 1;
    }
    assert!(changed > 0);
    for round in 0..2 {
        assert_eq!(stage.case().check_vault(&stage.bench).unwrap().faults.len(), changed, "round {round}");
        let returned = putback(&mut stage.case(), &stage.bench, &[], &mut |_| {}).unwrap();
        let refused: Vec<_> = returned.iter().filter_map(|one| one.refused.as_deref()).collect();
        assert_eq!(refused.len(), changed, "round {round}: {refused:#?}");
        assert!(refused.iter().all(|why| why.contains("not the listing that the journal speaks of")), "{refused:#?}");
    }
}

#[test]
fn a_copy_for_an_uninstaller_that_was_changed_is_refused() {
    let stage = stage::stage_installed("");
    stage.fresh_case();
    stage.clear();
    let copies =
        fs::read_dir(stage.case_folder().join("vault")).unwrap().map(|deed| deed.unwrap().path().join("copies"));
    let copies = copies.into_iter().find(|copies| copies.is_dir()).unwrap();
    for listing in fs::read_dir(&copies).unwrap().map(|one| one.unwrap().path()).filter(|path| path.is_file()) {
        let text = fs::read_to_string(&listing).unwrap();
        fs::write(&listing, text + " ").unwrap();
    }
    let faults = stage.case().check_vault(&stage.bench).unwrap().faults;
    assert!(faults.iter().any(|fault| fault.why.contains("not the listing that the record speaks of")), "{faults:#?}");
}

#[test]
fn a_forged_record_of_a_step_changes_nothing_that_only_a_loan_changes() {
    for forgery in [
        serde_json::json!({ "piece": "network" }),
        serde_json::json!({ "piece": "rights", "place": { "kind": "folder", "path": "C:\\Windows" }, "was": "00" }),
    ] {
        let stage = cleared();
        let forged = forge(&stage.case_folder(), &|line| match line.contains("Scale Desk\",\"name\":\"Scale Desk\"") {
            true => serde_json::json!([forgery]).to_string(),
            false => line.to_owned(),
        });
        assert!(forged > 0);
        let returned = putback(&mut stage.case(), &stage.bench, &[], &mut |_| {}).unwrap();
        let refused: Vec<&str> = returned.iter().filter_map(|one| one.refused.as_deref()).collect();
        assert_eq!(refused.len(), forged, "{refused:#?}");
        assert!(refused.iter().all(|why| why.contains("which no step")), "{refused:#?}");
    }
}

/// What a loan lends is a short list; its record cannot bring anything else to the machine.
#[test]
fn a_forged_record_of_a_loan_brings_nothing_to_the_machine() {
    let path = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\RunOnce";
    let command = serde_json::json!({ "name": "Theirs", "kind": 1, "data": "610000" });
    let tree = serde_json::json!({ "name": "RunOnce", "last_written": 0, "values": [command], "keys": [] });
    let forgeries = [
        serde_json::json!({ "piece": "value", "key": path, "value": command, "position": 0, "before": 0 }),
        serde_json::json!({ "piece": "key", "path": format!("{path}\\Theirs"), "tree": tree, "before": 0 }),
        serde_json::json!({ "piece": "process", "image": "C:\\Windows\\System32\\calc.exe" }),
        serde_json::json!({ "piece": "entry", "path": "C:\\Windows\\System32\\a.dll", "name": "a.dll", "before": 0 }),
        serde_json::json!({ "piece": "replace", "path": "C:\\Windows\\win.ini", "name": "win.ini", "content": "", "state": "", "before": 0 }),
    ];
    for forgery in forgeries {
        let stage = stage();
        stage.fresh_case();
        let loan = offered(&stage.before, &stubble_core::trace::Trace::default(), Default::default());
        let loan = loan.into_iter().find(|loan| loan.name == "driver-search").unwrap();
        assert!(borrow(&mut stage.case(), &stage.bench, &loan, false).unwrap());
        assert_eq!(forge(&stage.case_folder(), &|_| serde_json::json!([forgery]).to_string()), 1);
        let before = stage.bench.survey().unwrap();
        let refused = stubble_ledger::give_back(&mut stage.case(), &stage.bench, &|_| true);
        assert!(matches!(refused, Err(LedgerError::Damaged { .. })), "{forgery}: {refused:?}");
        assert_eq!(stage::differences(&before, &stage.bench.survey().unwrap()), [], "{forgery}");
    }
}

#[test]
fn a_record_that_names_what_is_never_taken_puts_nothing_there() {
    let services = "HKLM\\SYSTEM\\ControlSet001\\Services";
    let never = [
        ("key", "path", format!("{services}\\Ntfs\\Extra")),
        ("key", "path", "HKLM\\SOFTWARE\\Policies\\Microsoft\\Windows\\System".to_owned()),
        ("key", "path", "HKLM\\SYSTEM\\ControlSet002\\Control\\Lsa".to_owned()),
        ("value", "key", "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Winlogon".to_owned()),
        ("part", "key", format!("{services}\\disk")),
        ("entry", "path", "C:\\Windows\\System32\\Scale Desk".to_owned()),
        ("entry", "path", "C:\\Users\\maren\\Documents\\Scale Desk".to_owned()),
    ];
    for (piece, name, target) in never {
        let stage = cleared();
        let forged = forge(&stage.case_folder(), &|line| {
            let mut pieces: serde_json::Value = serde_json::from_str(line).unwrap();
            let is_meant = |one: &serde_json::Value| {
                // An entry goes by its own name, which must stay that of its place.
                one["piece"] == piece && (piece != "entry" || one["name"] == "Scale Desk")
            };
            let mut is_changed = false;
            for one in pieces.as_array_mut().unwrap().iter_mut().filter(|one| is_meant(one)) {
                one[name] = target.clone().into();
                is_changed = true;
            }
            if is_changed { pieces.to_string() } else { line.to_owned() }
        });
        assert!(forged > 0, "{piece}");
        let before = stage.bench.survey().unwrap();
        let returned = putback(&mut stage.case(), &stage.bench, &[], &mut |_| {}).unwrap();
        let refused: Vec<&str> = returned.iter().filter_map(|one| one.refused.as_deref()).collect();
        assert_eq!(refused.len(), forged, "{target}: {refused:#?}");
        let is_told = |why: &&&str| why.contains("which is never taken");
        assert_eq!(refused.iter().filter(is_told).count(), forged, "{target}: {refused:#?}");
        let after = stage.bench.survey().unwrap();
        assert_eq!(after.registry.key(&target).is_some(), before.registry.key(&target).is_some(), "{target}");
        assert!(!after.exists(&target), "{target}");
        assert!(returned.len() > forged, "the rest is back");
    }
}
