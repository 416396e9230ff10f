//! What people and machines read: lines fit a narrow terminal, nothing steers it, documents name
//! their schema, and the ticket stands alone.

use std::path::Path;
use std::process::{Command, Output, Stdio};

use serde_json::Value;
use stubble_machine::bench::{demo, world};

fn run(folder: &Path, columns: Option<&str>, args: &[&str]) -> Output {
    let mut command = Command::new(env!("CARGO_BIN_EXE_stubble"));
    command.args(args).current_dir(folder).env_remove("STUBBLE_CASE").env_remove("COLUMNS").stdin(Stdio::null());
    if let Some(columns) = columns {
        command.env("COLUMNS", columns);
    }
    command.output().unwrap()
}

fn text(output: Output) -> String {
    assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

fn opened(description: &str, name: &str) -> tempfile::TempDir {
    let folder = stubble_worlds::scratch();
    world::build(description, &demo::package, &folder.path().join("bench")).unwrap();
    assert_eq!(run(folder.path(), None, &["open", name, "--on", "bench:bench"]).status.code(), Some(0));
    folder
}

fn worlds() -> [(tempfile::TempDir, &'static str); 2] {
    let hostile =
        std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/worlds/hostile.toml")).unwrap();
    [(opened(demo::WORLD, "scale desk"), "r03"), (opened(&hostile, "notes"), "r02")]
}

/// Every command in the order of the work; `WHY` stands for a remnant.
const WORK: [&[&str]; 12] = [
    &["check"],
    &["trace", "--all"],
    &["why", "WHY"],
    &["plan"],
    &["plan", "--take", "s01"],
    &["clear", "--yes"],
    &["putback", "--list"],
    &["putback", "--yes"],
    &["resume", "--yes"],
    &["confirm"],
    &["report"],
    &["trace"],
];

#[test]
fn lines_fit_and_nothing_steers_the_terminal() {
    for (folder, id) in worlds() {
        for args in WORK {
            let args: Vec<&str> = args.iter().map(|arg| if *arg == "WHY" { id } else { arg }).collect();
            let shown = text(run(folder.path(), Some("80"), &args));
            for line in shown.lines() {
                // The case folder's own path cannot be broken where it is no Windows path.
                let fits = line.chars().count() <= 80 || line.contains("stubble-case");
                assert!(fits, "{args:?}: {} columns: {line}", line.chars().count());
                assert_eq!(line.trim_end(), line, "{args:?}: blanks at the end");
            }
            let steers =
                |letter: char| letter != '\n' && (letter.is_control() || ('\u{202A}'..='\u{202E}').contains(&letter));
            assert!(!shown.contains(steers), "{args:?}: {shown:?}");
        }
    }
}

#[test]
fn in_a_pipe_a_place_is_one_line() {
    let (folder, _) = worlds().into_iter().next().unwrap();
    let shown = text(run(folder.path(), None, &["trace"]));
    let long = "HKU\\S-1-5-21-1004336348-1177238915-682003330-1002\\Software\\Microsoft\\Windows\\CurrentVersion\\Run : Scale Desk";
    assert!(shown.lines().any(|line| line.ends_with(long)), "{shown}");
}

#[test]
fn every_document_names_its_schema_and_is_all_of_the_output() {
    for (folder, id) in worlds() {
        for args in WORK {
            let mut args: Vec<&str> = args.iter().map(|arg| if *arg == "WHY" { id } else { arg }).collect();
            args.push("--json");
            let shown = text(run(folder.path(), None, &args));
            let document: Value =
                serde_json::from_str(&shown).unwrap_or_else(|error| panic!("{args:?}: {error}\n{shown}"));
            let schema = document["schema"].as_str().unwrap();
            let known: Vec<&str> = stubble::schemas().iter().map(|(name, _)| *name).collect();
            assert!(known.contains(&schema), "{args:?}: {schema}");
        }
    }
}

#[test]
fn documents_have_what_scripts_rely_on() {
    let (folder, _) = worlds().into_iter().next().unwrap();
    let read = |args: &[&str]| -> Value { serde_json::from_str(&text(run(folder.path(), None, args))).unwrap() };
    let trace = read(&["trace", "--json"]);
    let remnants = trace["remnants"].as_array().unwrap();
    assert!(remnants.len() > 20);
    for remnant in remnants {
        for field in ["id", "place", "standing", "decision", "reason", "evidence"] {
            assert!(!remnant[field].is_null(), "{field} of {remnant}");
        }
        assert!(remnant["place"]["kind"].is_string() && remnant["place"]["path"].is_string());
        for evidence in remnant["evidence"].as_array().unwrap() {
            assert!(evidence["rule"].is_string() && evidence["text"].is_string());
            assert!((0.0..=1.0).contains(&evidence["weight"].as_f64().unwrap()));
        }
    }
    assert!(trace["could_not_look"].is_array());
    let check = read(&["check", "--json"]);
    for blocker in check["blockers"].as_array().unwrap() {
        for field in ["id", "rule", "severity", "evidence", "advice"] {
            assert!(!blocker[field].is_null(), "{field} of {blocker}");
        }
    }
}

#[test]
fn the_ticket_stands_alone_and_escapes_names() {
    for (folder, _) in worlds() {
        for args in [&["check"][..], &["trace"], &["plan"], &["clear", "--yes"], &["confirm"], &["report"]] {
            run(folder.path(), None, args);
        }
        let case = folder.path().join("stubble-case");
        let html = std::fs::read_to_string(case.join("report.html")).unwrap();
        for word in ["<script", "http://", "https://", "src=", "@import", "url("] {
            assert!(!html.contains(word), "{word}");
        }
        assert!(html.contains("<h1>") && html.contains("Outcome") && html.contains("putback"));
        let markdown = std::fs::read_to_string(case.join("report.md")).unwrap();
        for text in [&html, &markdown] {
            assert!(!text.contains(['\u{1b}', '\u{202e}']), "control characters are spelled out");
        }
        let report: Value = serde_json::from_slice(&std::fs::read(case.join("report.json")).unwrap()).unwrap();
        assert_eq!(report["schema"], "stubble.report/1");
        assert!(!report["events"].as_array().unwrap().is_empty());
    }
}

#[test]
fn the_demo_tells_its_story_and_leaves_everything_to_try() {
    let folder = stubble_worlds::scratch();
    let output = run(folder.path(), Some("80"), &["demo"]);
    assert_eq!(output.status.code(), Some(0));
    let told = text(output);
    for part in [
        "exit code 1603",
        "Quernlight Weigh 3 must be removed",
        "0 differences",
        "exit code 0",
        "yes Clean",
        "yes Installed right",
        "yes 0 of",
    ] {
        assert!(told.replace("\n ", "").contains(part), "{part} is missing in\n{told}");
    }
    let again = run(
        folder.path(),
        None,
        &["--case", "stubble-demo/case", "why", "C:\\Program Files\\Fennelgate\\Label Bridge"],
    );
    assert!(String::from_utf8_lossy(&again.stdout).contains("Fennelgate Label Bridge"));
    assert_eq!(
        run(folder.path(), None, &["demo", "--broken-only"]).status.code(),
        Some(0),
        "its own folder is made anew"
    );
    std::fs::write(folder.path().join("stubble-demo/mine.txt"), "keep").unwrap();
    assert_eq!(run(folder.path(), None, &["demo"]).status.code(), Some(2), "a folder with anything else is left alone");
    assert!(folder.path().join("stubble-demo/mine.txt").exists());
}
