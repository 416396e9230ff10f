//! Logs as installers write them, with what they tell: a log and a JSON file each, compared exactly.
//! `STUBBLE_BLESS=1` writes the JSON files anew.

use std::fs;
use std::io::{self, Read};
use std::path::Path;

use stubble_core::logs::{LogError, Outcome, context, diagnose};

/// Name, log, and what it tells: part of the program, so that it runs without the sources as well.
const LOGS: &[(&str, &[u8], &str)] = &[
    (
        "basic-and-cancelled",
        include_bytes!("logs/basic-and-cancelled.log"),
        include_str!("logs/basic-and-cancelled.json"),
    ),
    ("bundle", include_bytes!("logs/bundle.log"), include_str!("logs/bundle.json")),
    ("code-page", include_bytes!("logs/code-page.log"), include_str!("logs/code-page.json")),
    ("devices", include_bytes!("logs/devices.log"), include_str!("logs/devices.json")),
    ("engine", include_bytes!("logs/engine.log"), include_str!("logs/engine.json")),
    ("own-action-says-no", include_bytes!("logs/own-action-says-no.log"), include_str!("logs/own-action-says-no.json")),
    (
        "service-did-not-start",
        include_bytes!("logs/service-did-not-start.log"),
        include_str!("logs/service-did-not-start.json"),
    ),
    (
        "stops-in-the-middle",
        include_bytes!("logs/stops-in-the-middle.log"),
        include_str!("logs/stops-in-the-middle.json"),
    ),
    (
        "two-installs-in-one",
        include_bytes!("logs/two-installs-in-one.log"),
        include_str!("logs/two-installs-in-one.json"),
    ),
];

#[test]
fn every_log_tells_what_is_recorded() {
    let mut problems = String::new();
    for (name, log, recorded) in LOGS {
        let told = diagnose(*log).unwrap();
        let text = serde_json::to_string_pretty(&told).unwrap() + "\n";
        if std::env::var_os("STUBBLE_BLESS").is_some() {
            fs::write(Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("tests/logs/{name}.json")), &text).unwrap();
        } else if *recorded != text {
            problems.push_str(&format!("{name} tells otherwise:\n{text}"));
        }
        // What is told stands in the lines that are named.
        let run = told.main().unwrap();
        for said in run.message.iter().chain(&run.also) {
            let lines = context(*log, said.line, 0).unwrap();
            assert!(lines[0].text.contains(&said.text), "{name}: line {}", said.line);
        }
    }
    assert!(problems.is_empty(), "{problems}");
}

#[test]
fn what_is_no_log_is_told_at_once_whatever_its_size() {
    struct Zeros(u64);
    impl Read for Zeros {
        fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
            self.0 += into.len() as u64;
            assert!(self.0 < 64 << 20, "ten gigabytes of zeros are not read to their end");
            into.fill(0);
            Ok(into.len())
        }
    }
    assert!(matches!(diagnose(Zeros(0)), Err(LogError::NotALog(_))));
    assert!(matches!(diagnose(&b""[..]), Err(LogError::NotALog(_))));
    let program: Vec<u8> = (0..20_000_u32).map(|n| (n * 7 % 251) as u8).collect();
    assert!(matches!(diagnose(program.as_slice()), Err(LogError::NotALog(_))));
}

#[test]
fn a_log_that_is_cut_anywhere_is_still_read() {
    let (_, whole, _) = LOGS.iter().find(|(name, ..)| *name == "service-did-not-start").unwrap();
    let mut stopped = 0;
    for end in (200..whole.len()).step_by(61) {
        let log = diagnose(&whole[..end]).unwrap();
        let run = log.main().unwrap();
        assert!(run.last_line <= log.lines);
        stopped += usize::from(run.outcome == Outcome::Stopped && run.last_action.is_some());
    }
    assert!(stopped > 10);
}

#[test]
fn a_line_of_the_middle_is_cut_and_not_kept_in_memory() {
    let mut log = b"=== Verbose logging started: 1 ===\nAction start 6:40:00: INSTALL.\n".to_vec();
    log.extend(std::iter::repeat_n(b'x', 3 << 20));
    log.extend(
        b"\nAction ended 6:40:00: INSTALL. Return value 3.\nMSI (s) (1:1) [1]: MainEngineThread is returning 1603\n",
    );
    let told = diagnose(log.as_slice()).unwrap();
    assert_eq!((told.lines, told.main().unwrap().outcome), (5, Outcome::Failed));
}
