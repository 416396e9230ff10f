//! A whole case folder that a stranger has forged: journal, records, listings, plan and what it is about are changed, and
//! every digest fits again. Whatever is done with it, nothing changes outside of the machine, the case and its vault.
#![no_main]

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use libfuzzer_sys::fuzz_target;
use serde_json::Value;
use stubble_core::packages::Registered;
use stubble_core::plan::{build, from_toml, to_toml};
use stubble_core::subject::{Identified, identify};
use stubble_core::trace::{Decision, trace};
use stubble_ledger::{About, Case, Entry, Line, carry_out, discard, finish, give_back, putback, short_digest};
use stubble_machine::Observe;
use stubble_machine::bench::{Bench, world};

const WORLD: &str = include_str!("../case.toml");

/// What is made once: a machine of which a product was cleared, its case, and what nobody may touch.
struct Stage {
    live: PathBuf,
    /// Both kinds of vault: in the case, and on another file system.
    templates: [PathBuf; 2],
    vault: PathBuf,
    outside: BTreeMap<PathBuf, Vec<u8>>,
    _folders: [tempfile::TempDir; 2],
}

fn stage() -> &'static Stage {
    static STAGE: OnceLock<Stage> = OnceLock::new();
    STAGE.get_or_init(|| {
        let quick = Path::new("/dev/shm");
        let quick = if quick.is_dir() { quick.to_owned() } else { std::env::temp_dir() };
        let folders = [tempfile::tempdir_in(quick).unwrap(), tempfile::tempdir().unwrap()];
        let live = folders[0].path().join("live");
        let vault = folders[1].path().join("vault");
        let mut outside = BTreeMap::new();
        let templates = [None, Some(&vault)].map(|chosen| {
            let _ = fs::remove_dir_all(&live);
            fs::create_dir_all(live.join("outside/folder")).unwrap();
            fs::write(live.join("outside/canary.txt"), "nobody's but the technician's").unwrap();
            fs::write(live.join("outside/folder/inner.txt"), "the same").unwrap();
            outside = content(&live.join("outside"));
            world::build(WORLD, &|_| None, &live.join("bench")).unwrap();
            cleared(&live, chosen);
            let template = folders[0].path().join(if chosen.is_some() { "elsewhere" } else { "inside" });
            copy(&live, &template.join("live"));
            if let Some(vault) = chosen {
                copy(vault, &template.join("vault"));
            }
            template
        });
        Stage { live, templates, vault, outside, _folders: folders }
    })
}

/// Opens a case, carries its plan out, and borrows nothing.
fn cleared(live: &Path, chosen: Option<&PathBuf>) {
    let bench = Bench::open(&live.join("bench")).unwrap();
    let survey = bench.survey().unwrap();
    let registered = Registered::read(&survey);
    let Identified::One(subject) = identify(&survey, &registered, &[], "scale desk") else { panic!("one is meant") };
    let mut plan = build(&survey, &registered, &trace(&survey, &registered, &subject), &subject.name);
    for step in plan.steps.iter_mut().filter(|step| step.decision == Decision::Ask) {
        step.decision = Decision::Remove;
    }
    let mut about = About::new("bench".into(), survey.facts.computer.clone(), *subject, None);
    about.machine = survey.facts.identity.clone();
    about.vault = chosen.cloned();
    if let Some(vault) = chosen {
        fs::create_dir_all(vault).unwrap();
    }
    let mut case = Case::create(&live.join("case"), about).unwrap();
    case.set_plan(&to_toml(&plan), plan.steps.len()).unwrap();
    carry_out(&mut case, &bench, &plan, &mut |_| {}).unwrap();
}

fuzz_target!(|bytes: &[u8]| {
    let [how, edits @ ..] = bytes else { return };
    let stage = stage();
    let elsewhere = how & 1 == 1;
    let template = &stage.templates[usize::from(elsewhere)];
    let _ = fs::remove_dir_all(&stage.live);
    let _ = fs::remove_dir_all(&stage.vault);
    copy(&template.join("live"), &stage.live);
    if elsewhere {
        copy(&template.join("vault"), &stage.vault);
    }
    let case = stage.live.join("case");
    for edit in edits.chunks_exact(4).take(24) {
        let mut files = listed(&case);
        files.extend(listed(&stage.vault));
        files.retain(|file| file.extension().is_some_and(|end| end == "json" || end == "jsonl" || end == "toml"));
        let file = &files[usize::from(edit[0]) % files.len()];
        forge(file, edit[1], edit[2], edit[3], &stage.live);
    }
    refit(&case);
    use_it(&case, how >> 1);
    // What is not the machine, the case or its vault is as it was, and there is nothing new beside them. A case may name
    // any folder for its vault, and uses the one with its own name in there.
    let outside = stage.live.join("outside");
    let is_vault = |path: &Path| {
        let below = path.strip_prefix(&outside).ok().and_then(|rest| rest.iter().next()).unwrap_or_default();
        below.to_string_lossy().starts_with("case-")
    };
    let mut now = content(&outside);
    now.retain(|path, _| !is_vault(path));
    assert_eq!(now, stage.outside);
    let beside: Vec<_> = fs::read_dir(&stage.live).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert!(beside.iter().all(|name| ["bench", "case", "outside"].iter().any(|own| name == own)), "{beside:?}");
    let beside: Vec<_> =
        fs::read_dir(stage.vault.parent().unwrap()).unwrap().map(|entry| entry.unwrap().path()).collect();
    assert!(beside.iter().all(|path| *path == stage.vault), "{beside:?}");
});

/// Does with a case what commands do. Whatever is refused is well.
fn use_it(folder: &Path, how: u8) {
    let Ok(bench) = Bench::open(&folder.with_file_name("bench")) else { return };
    let Ok(mut case) = Case::open(folder) else { return };
    let _ = case.check_vault(&bench);
    let _ = case.taken();
    let _ = case.held_entries(&bench, &[]);
    if how & 1 == 1 {
        let _ = finish(&mut case, &bench);
    }
    match how >> 1 & 3 {
        0 => drop(putback(&mut case, &bench, &[], &mut |_| {})),
        1 => drop(discard(&mut case, &bench, &[])),
        2 => {
            let plan = case.plan_text().ok().zip(bench.survey().ok());
            if let Some(Ok(plan)) = plan.map(|(text, survey)| from_toml(&text, &survey)) {
                let _ = carry_out(&mut case, &bench, &plan, &mut |_| {});
            }
        }
        _ => drop(give_back(&mut case, &bench, &|_| true)),
    }
    let _ = putback(&mut case, &bench, &[], &mut |_| {});
    let _ = discard(&mut case, &bench, &[]);
}

/// Changes one thing in a file of JSON, of JSON lines or of text.
fn forge(file: &Path, at: u8, kind: u8, value: u8, live: &Path) {
    let Ok(text) = fs::read_to_string(file) else { return };
    let is_lines = file.extension().is_some_and(|end| end == "jsonl");
    if file.extension().is_some_and(|end| end == "toml") {
        // One word of the plan becomes another.
        let words: Vec<&str> = text.split('"').collect();
        let index = (usize::from(at) * 2 + 1) % words.len().max(2);
        let word = spelled(value, live).replace('\\', "\\\\");
        let words: Vec<&str> =
            words.iter().enumerate().map(|(number, old)| if number == index { &word } else { *old }).collect();
        let _ = fs::write(file, words.join("\""));
        return;
    }
    let mut documents: Vec<Value> = match is_lines {
        true => text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect(),
        false => serde_json::from_str(&text).ok().into_iter().collect(),
    };
    if documents.is_empty() {
        return;
    }
    let index = usize::from(at) % documents.len();
    match kind % 8 {
        0 if is_lines => drop(documents.remove(index)),
        1 if is_lines => documents.insert(index, documents[index].clone()),
        2 if is_lines => {
            let other = usize::from(value) % documents.len();
            documents.swap(index, other);
        }
        kind => {
            // Which leaf: the rest of the position, so that each of the documents is reached.
            let mut left = usize::from(at) / documents.len().min(256) + usize::from(kind) * 5 + usize::from(value) / 16;
            let count = leaves(&documents[index]);
            left %= count.max(1);
            change(&mut documents[index], &mut left, kind, value, live);
        }
    }
    let lines: Vec<String> = documents.iter().map(Value::to_string).collect();
    let _ = fs::write(file, if is_lines { lines.join("\n") + "\n" } else { lines.concat() });
}

fn leaves(value: &Value) -> usize {
    match value {
        Value::Array(list) => list.iter().map(leaves).sum::<usize>().max(1),
        Value::Object(map) => map.values().map(leaves).sum::<usize>().max(1),
        _ => 1,
    }
}

/// Changes the leaf that `left` counts down to; tells whether it was reached.
fn change(value: &mut Value, left: &mut usize, kind: u8, with: u8, live: &Path) -> bool {
    match value {
        Value::Array(list) if !list.is_empty() => {
            for index in 0..list.len() {
                if change(&mut list[index], left, kind, with, live) {
                    match kind {
                        6 => drop(list.remove(index)),
                        7 => list.insert(index, list[index].clone()),
                        _ => {}
                    }
                    return kind < 6;
                }
            }
            false
        }
        Value::Object(map) if !map.is_empty() => map.values_mut().any(|inner| change(inner, left, kind, with, live)),
        leaf => {
            if *left > 0 {
                *left -= 1;
                return false;
            }
            if kind < 6 {
                *leaf = match with % 5 {
                    0 => Value::from([0_i64, 1, -1, 3, 4095, 0o6777, i64::MAX, 1 << 40][usize::from(with / 5) % 8]),
                    1 if kind == 4 => Value::Null,
                    _ => Value::from(spelled(with, live)),
                };
            }
            true
        }
    }
}

/// Words that lead somewhere else.
fn spelled(number: u8, live: &Path) -> String {
    let outside = live.join("outside");
    let words = [
        "..".to_owned(),
        "../../../outside/canary.txt".to_owned(),
        "../../../../outside".to_owned(),
        "..\\..\\..\\outside\\canary.txt".to_owned(),
        outside.display().to_string(),
        outside.join("canary.txt").display().to_string(),
        "C:\\..\\..\\..\\outside".to_owned(),
        "C:\\Program Files\\Scale Desk".to_owned(),
        "C:\\Windows\\System32\\config\\SYSTEM".to_owned(),
        "C:\\Users\\maren\\AppData".to_owned(),
        "HKLM\\SOFTWARE\\Scale Desk".to_owned(),
        "link".to_owned(),
        "folder".to_owned(),
        "file".to_owned(),
        "entry".to_owned(),
        "key".to_owned(),
        "replace".to_owned(),
        "copy".to_owned(),
        "intent".to_owned(),
        "undo-intent".to_owned(),
        "done".to_owned(),
        "discarded".to_owned(),
        "remove".to_owned(),
        "take-folder".to_owned(),
        "desk-1.dll".to_owned(),
        String::new(),
        "a\0b".to_owned(),
        ".".to_owned(),
        "canary.txt".to_owned(),
        "C:".to_owned(),
        "D:\\outside".to_owned(),
        "\\\\?\\C:\\Temp".to_owned(),
    ];
    words[usize::from(number) % words.len()].clone()
}

/// Makes every digest of the case fit its content: whoever forges a case can do that.
fn refit(case: &Path) {
    let journal = case.join("journal.jsonl");
    let Ok(text) = fs::read_to_string(&journal) else { return };
    let mut before = String::new();
    let mut out = String::new();
    for raw in text.lines() {
        let Ok(mut line) = serde_json::from_str::<Line>(raw) else {
            out += raw;
            out.push('\n');
            continue;
        };
        match &mut line.entry {
            Entry::Together { entries } => {
                let first = entries.iter().find_map(|entry| match entry {
                    Entry::Intent { deed, .. } => Some(*deed),
                    _ => None,
                });
                let records = first.map(|first| case.join(format!("vault/{first:04}/records.jsonl")));
                let records = records.and_then(|path| fs::read(path).ok()).unwrap_or_default();
                let mut records = records.split(|byte| *byte == b'\n');
                for entry in entries {
                    if let Entry::Intent { record, .. } = entry {
                        *record = short_digest(records.next().unwrap_or_default());
                    }
                }
            }
            Entry::Intent { deed, record, .. } | Entry::Borrow { deed, record, .. } => {
                let path = case.join(format!("vault/{deed:04}/record.json"));
                *record = short_digest(&fs::read(path).unwrap_or_default());
            }
            _ => {}
        }
        line.chain = String::new();
        let plain = serde_json::to_vec(&line).unwrap_or_default();
        let mut hasher = blake3::Hasher::new();
        hasher.update(before.as_bytes()).update(&plain);
        line.chain = hasher.finalize().to_hex()[..16].to_owned();
        before.clone_from(&line.chain);
        out += &serde_json::to_string(&line).unwrap_or_default();
        out.push('\n');
    }
    let _ = fs::write(journal, out);
}

fn listed(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        match entry.file_type() {
            Ok(kind) if kind.is_dir() => found.extend(listed(&entry.path())),
            Ok(kind) if kind.is_file() => found.push(entry.path()),
            _ => {}
        }
    }
    found.sort();
    found
}

fn content(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    listed(folder).into_iter().map(|path| (path.clone(), fs::read(path).unwrap_or_default())).collect()
}

fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap().map(Result::unwrap) {
        let target = to.join(entry.file_name());
        match entry.file_type().unwrap() {
            kind if kind.is_dir() => copy(&entry.path(), &target),
            kind if kind.is_symlink() => {
                drop(std::os::unix::fs::symlink(fs::read_link(entry.path()).unwrap(), &target))
            }
            _ => {
                // The fuzzer's own timer interrupts a copy that the system makes.
                while let Err(error) = fs::copy(entry.path(), &target) {
                    assert_eq!(error.kind(), std::io::ErrorKind::Interrupted, "{error}");
                }
                let time = entry.metadata().unwrap().modified().unwrap();
                let _ = fs::File::options().write(true).open(&target).unwrap().set_modified(time);
            }
        }
    }
    let time = fs::metadata(from).unwrap().modified().unwrap();
    let _ = fs::File::open(to).unwrap().set_modified(time);
}
