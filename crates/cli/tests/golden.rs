//! Golden command tests: a folder of data each, a test each, compared exactly.
//!
//! `case.toml` says which machine, what happens before, and the command; `stdout`, `stderr` and
//! `machine` hold what comes out and how the machine differs afterwards. The built program runs
//! on a machine of its own in a temporary folder. After every case, whatever was taken is put
//! back, and the machine must be as it was. `STUBBLE_BLESS=1` writes the expected files anew.

// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

mod schema;
mod staged;

use std::fs;
use std::path::Path;

use libtest_mimic::{Arguments, Trial};
use staged::{Before, Case, Stage, given};
use stubble_core::survey::Survey;
use stubble_core::survey::compare::{Difference, compare};

impl Stage {
    fn plain(&self, bytes: &[u8]) -> String {
        let folder = self.folder.path().display().to_string();
        let text = String::from_utf8(bytes.to_vec()).unwrap().replace(&folder, "{dir}");
        let text = if cfg!(windows) { as_recorded(&text) } else { text };
        let text = without_sums(&without_moment(text));
        // The digest of what a test has just changed depends on the time of that change.
        let digests =
            text.split_once("places before ").and_then(|(_, rest)| Some((rest.get(..12)?, rest.get(23..35)?)));
        match digests {
            Some((before, after)) if before != after => text.replacen(after, "{digest}", 1),
            _ => text,
        }
    }
}

/// What another system says of a file that is not there, and paths of this computer, as they are recorded.
fn as_recorded(text: &str) -> String {
    let text = text.replace("File not found. (os error 2)", "No such file or directory (os error 2)");
    let text = text.replace("stubble-case\\\\", "stubble-case/").replace("stubble-case\\", "stubble-case/");
    let mut parts = text.split("{dir}");
    let mut out = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        let end = part.find(char::is_whitespace).unwrap_or(part.len());
        out.push_str("{dir}");
        out.push_str(&part[..end].replace('\\', "/"));
        out.push_str(&part[end..]);
    }
    out
}

/// The moments at which a case was opened and a receipt was written are others each time.
fn without_moment(text: String) -> String {
    const MOMENT: usize = "2026-03-02 06:40:00".len();
    let opened = text.find(", opened ").map(|start| start + ", opened ".len() + MOMENT);
    let Some(end) = text.find(" UTC\n  journal").or(opened) else { return text };
    format!("{}{{moment}}{}", &text[..end - MOMENT], &text[end..])
}

/// A package is made anew for each run, and holds the moment at which it was made: so does its SHA-256.
fn without_sums(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some(start) = rest.find(|letter: char| letter.is_ascii_hexdigit()) {
        let (before, from) = rest.split_at(start);
        let end = from.find(|letter: char| !letter.is_ascii_hexdigit()).unwrap_or(from.len());
        let (digits, after) = from.split_at(end);
        out.push_str(before);
        let is_sum = end == 64
            && digits.contains(|digit| digit != '0')
            && !["blake3 = \"", "blake3\": \""].iter().any(|name| out.ends_with(name));
        out.push_str(if is_sum { "{sha-256}" } else { digits });
        rest = after;
    }
    out + rest
}

/// How a machine differs, a line a place; only times of folders and keys are left out.
fn differences(before: &Survey, after: &Survey) -> String {
    let mut lines: Vec<String> = compare(before, after)
        .into_iter()
        .filter(|change| change.how != Difference::Touched)
        .map(|change| {
            let sign = match change.how {
                Difference::Appeared => '+',
                Difference::Vanished => '-',
                _ => '~',
            };
            format!("{sign} {} {}\n", change.place.kind.word(), change.place)
        })
        .collect();
    for process in &before.running.processes {
        if !after.running.processes.contains(process) {
            lines.push(format!("- process {}\n", process.image));
        }
    }
    for state in &after.running.services {
        if !before.running.services.contains(state) {
            lines.push(format!("~ service {} {}\n", state.name, if state.running { "runs" } else { "is stopped" }));
        }
    }
    lines.concat()
}

fn check(folder: &Path, tests: &Path, problems: &mut Vec<String>) {
    let name = folder.strip_prefix(tests).unwrap().display().to_string().replace('\\', "/");
    let case: Case = match toml::from_str(&fs::read_to_string(folder.join("case.toml")).unwrap()) {
        Ok(case) => case,
        Err(error) => return problems.push(format!("{name}: {error}")),
    };
    let stage = Stage::new(&case, tests);
    let start = stage.survey();
    let installs = |args: &[String]| args.iter().any(|arg| arg == "install" || arg == "mend");
    let mut comparable = case.survey && !installs(&case.args);
    for before in &case.before {
        stage.prepare(before);
        comparable &= match before {
            Before::Run(args) => !installs(args),
            Before::Remove(file)
            | Before::Cut { file, .. }
            | Before::Write { file, .. }
            | Before::Replace { file, .. } => !file.starts_with("bench"),
        };
    }
    let before = case.survey.then(|| stage.survey());
    let output = stage.run(&case.args);
    let machine = before.as_ref().map(|before| differences(before, &stage.survey())).unwrap_or_default();
    let seen = [("stdout", stage.plain(&output.stdout)), ("stderr", stage.plain(&output.stderr)), ("machine", machine)];
    for (file, seen) in seen {
        let path = folder.join(file);
        if std::env::var_os("STUBBLE_BLESS").is_some() {
            match seen.is_empty() {
                true => drop(fs::remove_file(&path)),
                false => fs::write(&path, &seen).unwrap(),
            }
            continue;
        }
        let expected = fs::read_to_string(&path).unwrap_or_default();
        if expected != seen {
            let diff = similar::TextDiff::from_lines(&expected, &seen);
            problems.push(format!("{name}/{file} differs:\n{}", diff.unified_diff().header("expected", "seen")));
        }
    }
    if output.status.code() != Some(case.exit) {
        problems.push(format!("{name}: exit code {:?}, expected {}", output.status.code(), case.exit));
    }
    if comparable && case.back {
        if uses(&case, "borrow") {
            stage.run(&["giveback".to_owned(), "--yes".to_owned()]);
        }
        stage.run(&["putback".to_owned(), "--yes".to_owned()]);
        let after = stage.survey();
        let mut left = compare(&start, &after);
        // Windows itself deletes there, at a start, what it was asked for.
        let session_manager = |path: &str| path.ends_with("Control\\Session Manager");
        left.retain(|one| one.how != Difference::Touched || !session_manager(&one.place.path));
        if !left.is_empty() || !uses(&case, "restart") && start.running != after.running {
            problems.push(format!("{name}: after putback the machine is another: {left:#?}"));
        }
    }
}

/// Whether a case runs a command.
fn uses(case: &Case, command: &str) -> bool {
    let is_it = |args: &[String]| args.first().is_some_and(|first| first == command);
    is_it(&case.args) || case.before.iter().any(|one| matches!(one, Before::Run(args) if is_it(args)))
}

/// Whether what a case's command prints with `--json` is as its schema says, errors included.
fn check_document(folder: &Path, tests: &Path) -> Result<(), String> {
    let case: Case = toml::from_str(&fs::read_to_string(folder.join("case.toml")).unwrap()).unwrap();
    let stage = Stage::new(&case, tests);
    case.before.iter().for_each(|before| stage.prepare(before));
    let mut args = case.args.clone();
    if !args.iter().any(|arg| arg == "--json") {
        args.push("--json".to_owned());
    }
    let output = stage.run(&args);
    let text = String::from_utf8_lossy(&output.stdout);
    let document: serde_json::Value =
        serde_json::from_str(&text).map_err(|error| format!("{args:?} prints no document: {error}\n{text}"))?;
    let name = document["schema"].as_str().ok_or("a document without a name")?;
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas");
    let path = path.join(format!("{}.json", name.replace('/', "-")));
    let text = fs::read_to_string(&path).map_err(|error| format!("{}: {error}", path.display()))?;
    let schema: serde_json::Value = serde_json::from_str(&text).unwrap();
    let is_error = case.exit == 2 || case.exit == 3;
    if is_error != (name == "stubble.error/1") && name != "stubble.ambiguous/1" && case.exit != 1 {
        return Err(format!("{args:?} ends with {} and prints {name}", case.exit));
    }
    schema::validate(&schema, &document).map_err(|why| format!("{args:?}: {why}"))
}

/// A case for each command, exit code and set of options: what they print is checked by its schema.
fn documents(tests: &Path, wanted: &str) -> Vec<Trial> {
    let mut seen = std::collections::BTreeMap::new();
    let groups = fs::read_dir(tests.join("cases")).unwrap().filter_map(Result::ok);
    for folder in groups.flat_map(|group| fs::read_dir(group.path()).unwrap().filter_map(Result::ok)) {
        let text = fs::read_to_string(folder.path().join("case.toml")).unwrap_or_default();
        let Ok(case) = toml::from_str::<Case>(&text) else { continue };
        // The help and the table are texts.
        if case.args.iter().any(|arg| arg == "--tsv") {
            continue;
        }
        let options: Vec<String> = case.args.iter().filter(|arg| arg.starts_with("--")).cloned().collect();
        let command = case.args.first().cloned().unwrap_or_default();
        let key = (command, case.exit, options);
        let best = seen.entry(key).or_insert_with(|| folder.path());
        if folder.path() < *best {
            *best = folder.path();
        }
    }
    let named = seen.into_values().map(|folder| {
        let name = folder.strip_prefix(tests.join("cases")).unwrap().display().to_string().replace('\\', "/");
        (format!("json/{name}"), folder)
    });
    let wanted = named.filter(|(name, _)| format!("cases/{name}").contains(wanted));
    wanted
        .map(|(name, folder)| {
            let tests = tests.to_owned();
            Trial::test(name, move || check_document(&folder, &tests).map_err(Into::into))
        })
        .collect()
}

fn main() {
    let tests = given("STUBBLE_TESTS", concat!(env!("CARGO_MANIFEST_DIR"), "/tests"));
    let wanted = std::env::var("STUBBLE_CASES").unwrap_or_default();
    let mut trials = Vec::new();
    for group in fs::read_dir(tests.join("cases")).unwrap().filter_map(Result::ok) {
        for case in fs::read_dir(group.path()).unwrap().filter_map(Result::ok) {
            let (folder, tests) = (case.path(), tests.clone());
            let name = format!("{}/{}", group.file_name().display(), case.file_name().display());
            if !format!("cases/{name}").contains(&wanted) {
                continue;
            }
            trials.push(Trial::test(name, move || {
                let mut problems = Vec::new();
                check(&folder, &tests, &mut problems);
                if problems.is_empty() { Ok(()) } else { Err(problems.join("\n").into()) }
            }));
        }
    }
    // Schemas are files of the clone.
    if !cfg!(windows) {
        trials.extend(documents(&tests, &wanted));
    }
    trials.sort_by(|one, other| one.name().cmp(other.name()));
    assert!(trials.len() >= if wanted.is_empty() { 200 } else { 1 }, "only {} cases were found", trials.len());
    libtest_mimic::run(&Arguments::from_args(), trials).exit();
}
