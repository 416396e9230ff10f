//! Setup may not write where it has to: found before setup runs, opened for a while, and given back exactly.

// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

use std::fs;

use stubble_machine::bench::demo;

use super::jobs::Job;

/// The demo's machine, on which everybody is denied a folder and the system is given nothing on a key.
fn closed() -> Job {
    let rights = "\n[[rights]]\npath = 'C:\\Program Files\\Fennelgate'\ndenies = [\"S-1-1-0\"]\nallows = [\"S-1-5-32-544\"]\n\
                  [[rights]]\npath = 'HKLM\\SOFTWARE\\Fennelgate'\nallows = [\"S-1-5-21-8-8-8-1001\"]\n";
    let job = Job::of(&format!("{}{rights}", demo::WORLD), &demo::package, stubble_worlds::scratch());
    let payload = "C:\\Users\\maren\\Downloads\\QuernlightScaleDesk-5.2.msi";
    job.must(&["open", "scale desk", "--on", "bench:bench", "--payload", payload], 0);
    job.decide();
    job.must(&["clear", "--yes"], 0);
    job
}

fn described(job: &Job) -> String {
    fs::read_to_string(job.at("bench/bench.toml")).unwrap()
}

#[test]
fn rights_that_setup_lacks_are_lent_and_given_back() {
    let job = closed();
    let before = described(&job);
    for place in ["the folder C:\\Program Files\\Fennelgate", "the key HKLM\\SOFTWARE\\Fennelgate"] {
        let text = job.must(&["check"], 1);
        assert!(text.contains(&format!("Setup may not write to {place}")), "{text}");
        assert!(text.contains("stubble borrow rights"), "{text}");
    }
    let failed = job.must(&["install", "--yes"], 1);
    assert!(failed.contains("insufficient privileges"), "{failed}");

    job.must(&["borrow", "rights", "--yes"], 0);
    assert_ne!(described(&job), before);
    let text = job.must(&["check"], 0);
    assert!(!text.contains("may not write"), "{text}");
    job.must(&["install", "--yes"], 0);
    job.must(&["confirm"], 1);
    job.must(&["giveback", "--yes"], 0);
    let rights = |text: &str| toml::from_str::<toml::Table>(text).unwrap()["rights"].clone();
    assert_eq!(rights(&described(&job)), rights(&before));
    job.must(&["confirm"], 0);
}

#[test]
fn rights_that_somebody_else_has_changed_meanwhile_stay_as_they_are() {
    let job = closed();
    job.must(&["borrow", "rights", "--yes"], 0);
    let mut state: toml::Table = toml::from_str(&described(&job)).unwrap();
    let rows = state["rights"].as_array_mut().unwrap();
    let row = rows.iter_mut().find(|row| row["path"].as_str() == Some("HKLM\\SOFTWARE\\Fennelgate")).unwrap();
    row.as_table_mut().unwrap().remove("descriptor");
    row["allows"] = vec!["S-1-1-0"].into();
    fs::write(job.at("bench/bench.toml"), toml::to_string(&state).unwrap()).unwrap();
    let text = job.must(&["giveback", "--yes"], 0);
    assert!(text.contains("the rights on HKLM\\SOFTWARE\\Fennelgate"), "{text}");
    let text = job.must(&["check"], 1);
    assert!(text.contains("Setup may not write to the folder C:\\Program Files\\Fennelgate"), "{text}");
}
