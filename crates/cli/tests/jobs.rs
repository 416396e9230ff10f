//! Whole jobs by the built program: from the setup that fails to a receipt that others can check, with a hidden
//! installer, a loan, damaged content that is put right, and a ticket that can be sent away.

// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use stubble_core::survey::Survey;
use stubble_core::survey::compare::{Change, Difference, compare};
use stubble_machine::Observe;
use stubble_machine::bench::{Bench, demo, world};
use stubble_machine::durable::CRASH_AT;

pub struct Job {
    folder: tempfile::TempDir,
}

impl Job {
    pub fn new(world: &str) -> Self {
        let folder = stubble_worlds::scratch();
        let text = match world {
            "demo" => demo::WORLD.to_owned(),
            file => fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/worlds").join(file)).unwrap(),
        };
        Self::of(&text, &demo::package, folder)
    }

    pub fn of(world: &str, package: &dyn Fn(&str) -> Option<String>, folder: tempfile::TempDir) -> Self {
        world::build(world, package, &folder.path().join("bench")).unwrap();
        Self { folder }
    }

    pub fn at(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    fn survey(&self) -> Survey {
        Bench::open(&self.at("bench")).unwrap().survey().unwrap()
    }

    pub fn run(&self, args: &[&str]) -> Output {
        Command::new(env!("CARGO_BIN_EXE_stubble"))
            .args(args)
            .current_dir(self.folder.path())
            .env_remove("STUBBLE_CASE")
            .env("NO_COLOR", "1")
            .stdin(Stdio::null())
            .output()
            .unwrap()
    }

    /// Runs a command that must end with this exit code; gives back what it printed.
    pub fn must(&self, args: &[&str], exit: i32) -> String {
        let output = self.run(args);
        let (out, err) = (String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap());
        assert_eq!(output.status.code(), Some(exit), "{args:?}:\n{out}\n{err}");
        out
    }

    /// Decides every step that asks.
    pub fn decide(&self) {
        self.must(&["plan"], 0);
        let plan = fs::read_to_string(self.at("stubble-case/plan.toml")).unwrap();
        let value: toml::Value = toml::from_str(&plan).unwrap();
        for step in value["step"].as_array().unwrap() {
            // The cached packages of grown machines are none that could run.
            let is_uninstaller = step["kind"].as_str().is_some_and(|kind| kind.contains("uninstall"));
            let id = step["id"].as_str().unwrap();
            match step["decision"].as_str() {
                _ if is_uninstaller => drop(self.must(&["plan", "--keep", id], 0)),
                Some("ask") => drop(self.must(&["plan", "--take", id], 0)),
                _ => {}
            }
        }
    }

    /// From the receipt to one damaged byte and back; then the ticket without names.
    pub fn proven(&self, damaged: &str, names: &[&str]) {
        let receipt = ["confirm", "--receipt", "stubble-case/receipt.json", "--journal", "stubble-case/journal.jsonl"];
        self.must(&["confirm"], 0);
        self.must(&receipt, 0);
        self.checked_by_others(true);

        let mut bytes = fs::read(self.at(damaged)).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        fs::write(self.at(damaged), &bytes).unwrap();
        let output = self.must(&["confirm"], 1);
        assert!(output.contains("other content of the same size"), "{output}");
        self.must(&receipt, 1);

        self.must(&["plan", "--repair", "--anew"], 0);
        self.must(&["clear", "--yes"], 0);
        self.must(&["confirm"], 0);
        self.must(&receipt, 0);

        self.must(&["report", "--redact"], 0);
        let report: serde_json::Value =
            serde_json::from_slice(&fs::read(self.at("stubble-case/report-redacted.json")).unwrap()).unwrap();
        let events = report["events"].as_array().unwrap();
        let planned = |at: usize| events[at]["text"].as_str().unwrap().starts_with("Plan of ");
        let cleared = |at: usize| events[at]["text"].as_str().unwrap().starts_with("Plan carried out");
        let plans: Vec<usize> = (0..events.len()).filter(|at| planned(*at)).collect();
        let between = |pair: &[usize]| (pair[0]..pair[1]).any(cleared);
        assert!(!plans.is_empty() && plans.windows(2).all(between), "a plan is one moment until it is carried out");
        for end in ["html", "md", "json"] {
            let text = fs::read_to_string(self.at(&format!("stubble-case/report-redacted.{end}"))).unwrap();
            for name in names {
                assert!(!text.to_lowercase().contains(&name.to_lowercase()), "{name} in the redacted .{end}");
            }
        }
        // A receipt with one letter changed is none.
        let path = self.at("stubble-case/receipt.json");
        let text = fs::read_to_string(&path).unwrap();
        fs::write(&path, text.replacen("WEIGH-", "WEIGI-", 1)).unwrap();
        self.must(&receipt[..3], 1);
        self.checked_by_others(false);
    }

    /// What a program says that has nothing of ours.
    fn checked_by_others(&self, fine: bool) {
        let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../scripts/check-receipt.py");
        let checked = Command::new("python3")
            .arg(script)
            .args([self.at("stubble-case/receipt.json"), self.at("stubble-case/journal.jsonl")])
            .output();
        // Where there is no Python, nobody else can be asked.
        if let Ok(checked) = checked {
            assert_eq!(checked.status.success(), fine, "{}", String::from_utf8_lossy(&checked.stdout));
        }
    }
}

/// The product code of the old weighing program.
const WEIGH: &str = "{7C1D2A40-5B6E-4F83-9A27-3E0B1C5D8F61}";

const DESK: &str = "bench/disk/Program Files/Fennelgate/Scale Desk/desk.exe";

#[test]
fn the_demo_from_the_failing_setup_to_a_receipt_with_a_loan_on_the_way() {
    let job = Job::new("demo");
    job.must(&["open", "scale desk", "--on", "bench:bench"], 0);
    let failed = job.must(&["install", "--yes"], 1);
    assert!(failed.contains("must be removed before"), "{failed}");
    job.must(&["diagnose"], 1);
    job.must(&["check"], 1);
    job.decide();
    job.must(&["borrow", "driver-search", "--yes"], 0);
    job.must(&["clear", "--yes"], 0);
    job.must(&["install", "--yes"], 0);
    job.must(&["confirm"], 1);
    job.must(&["giveback", "--yes"], 0);
    job.proven(DESK, &["maren", "night-shift", "WEIGH-03", "S-1-5-21-1004336348-1177238915-682003330-1001"]);
}

#[test]
fn the_installer_that_a_downloader_hides_is_found_and_survives_the_clearing() {
    let job = Job::new("hidden.toml");
    let opened = job.must(&["open", "scale desk", "--on", "bench:bench"], 0);
    assert!(opened.contains(&format!("asks for {WEIGH}")), "its tables tell whom it asks for: {opened}");
    let hidden = "C:\\ProgramData\\Fennelgate\\Scale Desk\\Fetched\\0017\\payload.bin";
    job.must(&["payload"], 0);
    job.must(&["payload", "--choose", hidden], 0);
    job.must(&["install", "--yes"], 1);
    job.decide();
    // The product that setup asks for is removed by its own uninstaller, if a person decides so.
    job.must(&["plan", "--take", WEIGH, "--because", "Maren no longer weighs with it"], 0);
    // What its uninstaller does outside of the plan can be undone as well.
    let before = job.survey();
    job.must(&["clear", "--yes"], 0);
    let is_gone = |change: &Change| change.how == Difference::Vanished && change.place.path.ends_with("weigh.exe");
    assert!(compare(&before, &job.survey()).iter().any(is_gone));
    job.must(&["putback", "--yes"], 0);
    let mut left = compare(&before, &job.survey());
    left.retain(|change| change.how != Difference::Touched);
    assert!(left.is_empty(), "{left:#?}");
    job.must(&["clear", "--yes"], 0);
    job.must(&["install", "--yes"], 0);
    let kept = job.at("bench/disk/ProgramData/Fennelgate/Scale Desk/Fetched/0017/payload.bin");
    assert_eq!(fs::read(kept).unwrap(), fs::read(job.at("stubble-case/payloads/1/payload.bin")).unwrap());
    job.proven(DESK, &["maren", "WEIGH-10"]);
}

#[test]
fn gently_takes_no_more_than_setup_needs() {
    let job = Job::new("demo");
    job.must(&["open", "scale desk", "--on", "bench:bench"], 0);
    job.decide();
    job.must(&["install", "--gently", "--yes"], 0);
    let held = job.must(&["putback", "--list"], 0);
    assert!(held.contains("registration") || held.contains("Weigh 3"), "{held}");
    let plan = fs::read_to_string(job.at("stubble-case/plan.toml")).unwrap();
    let planned = plan.matches("[[step]]").count();
    let taken = held.lines().filter(|line| line.trim_start().starts_with('s')).count();
    assert!(taken > 0 && taken < planned, "{taken} of {planned}");
}

/// The demo's case, opened and with its plan decided.
fn decided_demo() -> Job {
    let job = Job::new("demo");
    job.must(&["open", "scale desk", "--on", "bench:bench"], 0);
    job.decide();
    job
}

#[test]
fn two_reinstalls_in_one_case() {
    let job = decided_demo();
    for round in 0..2 {
        job.must(&["clear", "--yes"], 0);
        job.must(&["install", "--yes"], 0);
        let receipt = job.must(&["confirm"], 0);
        assert!(receipt.contains("Installed right"), "{round}: {receipt}");
        // What was decided holds for the second plan as well.
        job.must(&["plan", "--anew"], 0);
    }
    let held = job.must(&["putback", "--list"], 0);
    assert!(held.contains("Scale Desk"), "{held}");
}

#[test]
fn a_job_across_a_restart() {
    let job = Job::new("demo");
    let mend = ["mend", "scale desk", "--on", "bench:bench", "--borrow", "network", "--yes"];
    // Batch Clock belongs to another publisher, stays open, and holds a file.
    let output = job.must(&mend, 5);
    assert!(output.contains("Restart the machine now"), "{output}");
    let status = job.must(&["status"], 0);
    assert!(
        status.contains("put off") && status.contains("borrowed") && status.contains("stubble restart"),
        "{status}"
    );
    job.must(&["restart", "--yes"], 0);
    let output = job.must(&mend, 0);
    assert!(output.contains("Going on with the case"), "{output}");
    let status = job.must(&["status"], 0);
    assert!(status.contains("all is as it should be") && !status.contains("borrowed"), "{status}");
}

/// The boot settings of a machine, as far as they say which Windows starts.
const BOOT_SETTINGS: &str = r#"
[[key]]
path = 'HKLM\BCD00000000\Objects\{9dea862c-5cdd-4e70-acc1-f32b344d4795}\Elements\23000003'
values = { Element = "{b2f4c6d8-0a1e-4b3c-9d5f-7e8091a2b3c4}" }

[[key]]
path = 'HKLM\BCD00000000\Objects\{b2f4c6d8-0a1e-4b3c-9d5f-7e8091a2b3c4}\Elements\12000004'
values = { Element = "Windows 10" }
"#;

/// What holds a file of the product open does not run in safe mode, so that nothing has to wait for another start.
#[test]
fn a_safe_start_between_clearing_and_install() {
    let job = Job::of(&format!("{}\n{BOOT_SETTINGS}", demo::WORLD), &demo::package, stubble_worlds::scratch());
    job.must(&["open", "scale desk", "--on", "bench:bench"], 0);
    job.decide();
    job.must(&["borrow", "safe-mode", "--yes"], 0);
    job.must(&["restart", "--yes"], 0);
    let running = |job: &Job| job.survey().running.processes.iter().any(|one| one.image.contains("batchclock"));
    assert!(!running(&job), "a program of another maker runs in safe mode");
    job.must(&["clear", "--yes"], 0);
    job.must(&["install", "--yes"], 0);
    let receipt = job.must(&["confirm"], 1);
    assert!(receipt.contains("safe mode"), "{receipt}");
    job.must(&["giveback", "--yes"], 0);
    job.must(&["restart", "--yes"], 0);
    assert!(running(&job));
    let receipt = job.must(&["confirm"], 0);
    assert!(receipt.contains("Installed right") && receipt.contains("0 of"), "{receipt}");
}

/// Setup would remove another publisher's product: `check` reports that, the plan asks, and `--yes` does not do it.
#[test]
fn another_publishers_product_that_setup_would_remove_is_a_persons_to_decide() {
    let row =
        "\n[[upgrade]]\ncode = \"A3F5E8C1-7B90-4D26-9C4E-0E6B8D1F7A52\"\nproperty = \"CLOCKFOUND\"\nremove = true\n";
    let package = |name: &str| match demo::package(name) {
        Some(text) if name == "scale-desk-5.2" => Some(text + row),
        other => other,
    };
    let job = Job::of(demo::WORLD, &package, stubble_worlds::scratch());
    let clock = job.at("bench/disk/Program Files (x86)/Sievewell/Batch Clock/batchclock.exe");
    job.must(&["open", "scale desk", "--on", "bench:bench"], 0);
    let check = job.must(&["check"], 1);
    assert!(
        check.contains("Setup of Quernlight Scale Desk 5.2.0 will uninstall Sievewell Batch Clock 4.0.7"),
        "{check}"
    );
    let plan = job.must(&["plan"], 0);
    assert!(plan.contains("a product of Sievewell Timing"), "{plan}");
    job.must(&["plan", "--take", "s01"], 0);
    job.must(&["clear", "--yes"], 0);
    assert!(clock.is_file());
    job.must(&["install", "--yes"], 0);
    assert!(!clock.exists(), "the package says that setup removes it");
    let receipt = job.must(&["confirm"], 0);
    assert!(receipt.contains("Sievewell Batch Clock 4.0.7 was uninstalled"), "{receipt}");
}

/// A footprint says which product of a suite goes first, whatever order their names or registrations would have.
#[test]
fn the_products_of_a_suite_go_in_the_order_that_its_footprint_states() {
    let (suite, add_in) = ("Quernlight Scale Desk", "Fennelgate Label Bridge");
    for [first, second] in [[suite, add_in], [add_in, suite]] {
        let job = Job::new("installed.toml");
        let print = format!(
            "format = \"stubble.footprint/1\"\nname = \"{suite}\"\npublisher = \"Fennelgate Instruments\"\n\
             uninstall_order = [{{ name = \"{first}\" }}, {{ name = \"{second}\" }}]\n"
        );
        fs::write(job.at("suite.toml"), print).unwrap();
        let payload = "C:\\Setup\\scale-desk-5.1.msi";
        let open = ["open", suite, "--on", "bench:bench", "--scope", "publisher", "--footprint", "suite.toml"];
        job.must(&[&open[..], &["--payload", payload]].concat(), 0);
        job.must(&["plan", "--decide", "take"], 0);
        job.must(&["clear", "--yes"], 0);
        let json: serde_json::Value = serde_json::from_str(&job.must(&["plan", "--json"], 0)).unwrap();
        let steps = json["step"].as_array().unwrap();
        let ran = steps.iter().filter(|step| step["kind"] == "uninstall");
        let ran: Vec<&str> = ran.map(|step| step["title"].as_str().unwrap()).collect();
        assert!(ran.len() == 2 && ran[0].starts_with(first) && ran[1].starts_with(second), "{ran:?}");
        job.must(&["install", "--yes"], 0);
        let receipt = job.must(&["confirm"], 0);
        assert!(receipt.contains("Installed right"), "{receipt}");
    }
}

#[test]
fn a_program_that_two_people_have_for_themselves() {
    let job = Job::new("per-user.toml");
    job.must(&["open", "dairy notes", "--on", "bench:bench"], 0);
    // First for one of them, then for the other.
    job.must(&["plan", "--user", "tilde"], 0);
    job.must(&["clear", "--yes", "--without-installer"], 0);
    let of = |user: &str| job.at(&format!("bench/disk/Users/{user}/AppData/Local/Programs/Wheywise Dairy Notes"));
    assert!(of("maren").is_dir() && !of("tilde").exists());
    job.must(&["plan", "--anew", "--decide", "keep"], 0);
    job.must(&["clear", "--yes", "--without-installer"], 0);
    assert!(!of("maren").exists());
    assert!(job.at("bench/disk/Users/maren/AppData/Roaming/Wheywise Dairy Notes/2026-02.txt").is_file());
    job.must(&["confirm"], 0);
    job.must(&["putback", "--yes"], 0);
    assert!(of("maren").is_dir() && of("tilde").is_dir());
}

#[test]
fn a_driver_of_its_own_that_windows_would_bring_back() {
    let job = Job::new("own-driver.toml");
    job.must(&["open", "scale desk", "--on", "bench:bench"], 0);
    job.must(&["plan"], 0);
    // What is borrowed keeps Windows from bringing its own driver; given back, it does not count as a change.
    job.must(&["borrow", "network", "driver-search", "--yes"], 0);
    job.must(&["clear", "--yes"], 0);
    job.must(&["giveback", "--yes"], 0);
    let receipt = job.must(&["confirm"], 0);
    assert!(receipt.contains("0 of"), "{receipt}");
}

#[test]
fn a_driver_and_a_store_package_go_as_units_and_come_back() {
    let job = Job::new("units.toml");
    job.must(&["open", "scale desk", "--on", "bench:bench"], 0);
    job.must(&["plan", "--decide", "keep"], 0);
    // What a person keeps does not count against the work.
    let plan = fs::read_to_string(job.at("stubble-case/plan.toml")).unwrap();
    let value: toml::Value = toml::from_str(&plan).unwrap();
    let steps = value["step"].as_array().unwrap();
    let driver = steps.iter().find(|step| step["kind"].as_str() == Some("remove-driver")).unwrap();
    job.must(&["plan", "--keep", driver["id"].as_str().unwrap(), "--because", "as its maker advises"], 0);
    job.must(&["clear", "--yes"], 0);
    assert!(job.at("bench/disk/Windows/INF/oem7.inf").is_file());
    let receipt = job.must(&["confirm"], 0);
    assert!(receipt.contains("you decided so: as its maker advises"), "{receipt}");
    job.must(&["report"], 0);
    job.must(&["putback", "--yes"], 0);
}

#[test]
fn a_store_package_starts_as_new_and_stays() {
    let job = Job::new("units.toml");
    let data = job.at("bench/disk/Users/maren/AppData/Local/Packages/Fennelgate.ScaleDesk_8k2v0m1n3p4qr");
    let before = job.survey();
    job.must(&["open", "scale desk viewer", "--on", "bench:bench"], 0);
    job.must(&["plan", "--reset"], 0);
    let cleared = job.must(&["clear", "--yes", "--without-installer"], 0);
    assert!(!data.exists() && cleared.contains("Next: `stubble confirm`"), "{cleared}");
    let receipt = job.must(&["confirm"], 0);
    assert!(receipt.contains("store package Fennelgate.ScaleDesk_5.1.0.0_x64__8k2v0m1n3p4qr (only what"), "{receipt}");
    job.must(&["putback", "--yes"], 0);
    assert!(compare(&before, &job.survey()).is_empty());
}

#[test]
fn damaged_content_is_put_right_and_nothing_else() {
    let job = Job::new("installed.toml");
    let payload = "C:\\Setup\\scale-desk-5.1.msi";
    job.must(&["open", "scale desk", "--on", "bench:bench", "--payload", payload], 0);
    let whole = fs::read(job.at(DESK)).unwrap();
    fs::write(job.at(DESK), &whole[..100]).unwrap();
    job.must(&["plan", "--repair"], 0);
    // Looking at the plan does not make it another one.
    let json: serde_json::Value = serde_json::from_str(&job.must(&["plan", "--json"], 0)).unwrap();
    let kinds: Vec<&str> = json["step"].as_array().unwrap().iter().filter_map(|step| step["kind"].as_str()).collect();
    assert!(!kinds.is_empty() && kinds.iter().all(|kind| *kind == "replace-file"), "{kinds:?}");
    job.must(&["mend", "scale desk", "--on", "bench:bench", "--payload", payload, "--yes"], 0);
    assert_eq!(fs::read(job.at(DESK)).unwrap(), whole);
    let receipt = job.must(&["confirm"], 0);
    assert!(receipt.contains("Put right: 1 file"), "{receipt}");
}

#[test]
fn a_whole_product_that_setup_only_asks_for_stays_without_a_person() {
    let job = Job::new("hidden.toml");
    let weigh = job.at("bench/disk/Program Files (x86)/Fennelgate/Weigh 3/weigh.exe");
    let hidden = "C:\\ProgramData\\Fennelgate\\Scale Desk\\Fetched\\0017\\payload.bin";
    let mend = ["mend", "scale desk", "--on", "bench:bench", "--payload", hidden, "--yes"];
    let output = job.must(&mend, 1);
    assert!(weigh.is_file(), "{output}");
    assert!(output.contains("Uninstall Quernlight Weigh 3 3.4.1 first"), "{output}");
    // A person decides, and the job goes on; its uninstaller can be undone like every step.
    job.must(&["plan", "--anew", "--take", WEIGH], 0);
    job.must(&["clear", "--yes"], 0);
    assert!(!weigh.exists());
    job.must(&["install", "--yes"], 0);
    job.must(&["confirm"], 0);
}

#[test]
fn a_preview_changes_nothing_also_in_the_middle_of_a_step() {
    let job = decided_demo();
    let args = ["clear", "--preview"];
    let before = job.survey();
    job.must(&args, 0);
    assert!(compare(&before, &job.survey()).is_empty());
    // The program ends in the middle of the work.
    let mut half = Command::new(env!("CARGO_BIN_EXE_stubble"));
    half.args(["clear", "--yes"]).current_dir(job.folder.path()).env(CRASH_AT, "240");
    half.stdin(Stdio::null()).output().unwrap();
    let (middle, journal) = (job.survey(), fs::read(job.at("stubble-case/journal.jsonl")).unwrap());
    assert!(!compare(&before, &middle).is_empty());
    job.must(&args, 4);
    assert!(compare(&middle, &job.survey()).is_empty());
    assert_eq!(fs::read(job.at("stubble-case/journal.jsonl")).unwrap(), journal);
    job.must(&["resume", "--yes"], 0);
}
