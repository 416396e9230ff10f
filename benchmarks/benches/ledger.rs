//! Taking and putting back 20,000 files and 20,000 keys through the ledger, beside the bare
//! renames of as many files with one hive read, changed and written. And a folder of 50 GB.

use std::cell::OnceCell;
use std::fs::{self, File};
use std::path::{Path, PathBuf};

use divan::Bencher;
use stubble_core::packages::Registered;
use stubble_core::plan::{Plan, build};
use stubble_core::subject::{Identified, identify};
use stubble_core::trace::trace;
use stubble_hive::Hive;
use stubble_ledger::{About, Case, Outcome, carry_out, putback};
use stubble_machine::Observe;
use stubble_machine::bench::{Bench, world};

const MANY: usize = 20_000;
const WORLD: &str = r#"
[computer]
name = "WEIGH-07"
product = "Windows 10 Pro"
version = "10.0.19045"
dated = "2026-02-27T16:40:00Z"
now = "2026-03-02T06:40:00Z"

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Desk'
values = { DisplayName = "Scale Desk", Publisher = "Fennelgate", InstallLocation = 'C:\Program Files\Scale Desk' }
"#;

fn main() {
    divan::main();
}

struct Stage {
    folder: tempfile::TempDir,
    bench: Bench,
    plan: Plan,
    about: About,
}

impl Stage {
    /// A machine with a product of that many files and keys.
    fn new(files: usize, keys: usize, large: u64) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let mut text = WORLD.to_owned();
        for number in 0..keys {
            text.push_str(&format!(
                "[[key]]\npath = 'HKLM\\SOFTWARE\\Scale Desk\\{}\\{number}'\nvalues = {{ Tare = {number} }}\n",
                number / 100
            ));
        }
        let bench = world::build(&text, &|_| None, &folder.path().join("bench")).unwrap();
        let data = folder.path().join("bench/disk/Program Files/Scale Desk");
        fs::create_dir_all(&data).unwrap();
        for number in 0..files {
            fs::write(data.join(format!("{number}.dat")), "weight").unwrap();
        }
        if large > 0 {
            File::create(data.join("labels.pack")).unwrap().set_len(large).unwrap();
        }
        let survey = bench.survey().unwrap();
        let registered = Registered::read(&survey);
        let Identified::One(subject) = identify(&survey, &registered, &[], "scale desk") else { panic!("not one") };
        let plan = build(&survey, &registered, &trace(&survey, &registered, &subject), &subject.name);
        let about = About::new("bench".into(), "WEIGH-07".into(), *subject, None);
        Self { folder, bench, plan, about }
    }

    fn there_and_back(&self) {
        let case = self.folder.path().join("case");
        let mut case = Case::create(&case, self.about.clone()).unwrap();
        let reports = carry_out(&mut case, &self.bench, &self.plan, &mut |_| {}).unwrap();
        assert!(reports.iter().all(|report| report.outcome == Outcome::Done));
        putback(&mut case, &self.bench, &[], &mut |_| {}).unwrap();
        drop(case);
        fs::remove_dir_all(self.folder.path().join("case")).unwrap();
    }

    fn hive(&self) -> PathBuf {
        self.folder.path().join("bench/disk/Windows/System32/config/SOFTWARE")
    }
}

fn many() -> &'static Stage {
    thread_local! { static STAGE: OnceCell<&'static Stage> = const { OnceCell::new() } }
    STAGE.with(|stage| *stage.get_or_init(|| Box::leak(Box::new(Stage::new(MANY, MANY, 0)))))
}

/// Each file away and back by its own rename; the keys deleted in one hive, which is written and
/// synced, and the old one put back.
#[divan::bench(sample_count = 10, sample_size = 1)]
fn ledger_1_bare_renames_and_two_hive_commits(bencher: Bencher) {
    let stage = many();
    let data = stage.folder.path().join("bench/disk/Program Files/Scale Desk");
    let away = stage.folder.path().join("away");
    fs::create_dir_all(&away).unwrap();
    let move_all = |from: &Path, to: &Path| {
        for number in 0..MANY {
            let name = format!("{number}.dat");
            fs::rename(from.join(&name), to.join(&name)).unwrap();
        }
        File::open(from).unwrap().sync_all().unwrap();
    };
    bencher.bench_local(|| {
        move_all(&data, &away);
        let old = fs::read(stage.hive()).unwrap();
        let mut hive = Hive::parse(old.clone()).unwrap();
        let name: Vec<u16> = "Scale Desk".encode_utf16().collect();
        hive.delete_key(hive.root(), &name, 9).unwrap();
        write_hive(&stage.hive(), hive.to_bytes(9));
        write_hive(&stage.hive(), &old);
        move_all(&away, &data);
    });
}

fn write_hive(path: &Path, content: &[u8]) {
    let fresh = path.with_extension("new");
    fs::write(&fresh, content).unwrap();
    File::open(&fresh).unwrap().sync_all().unwrap();
    fs::rename(&fresh, path).unwrap();
    File::open(path.parent().unwrap()).unwrap().sync_all().unwrap();
}

/// The same through plan, journal and vault: state compared, recorded, taken, put back.
#[divan::bench(sample_count = 10, sample_size = 1)]
fn ledger_2_clear_and_putback(bencher: Bencher) {
    let stage = many();
    stage.there_and_back();
    bencher.bench_local(|| stage.there_and_back());
}

/// A folder with one file of that many gigabytes: the time does not depend on it.
#[divan::bench(args = [0, 50], sample_count = 10, sample_size = 1)]
fn ledger_3_gigabytes(bencher: Bencher, gigabytes: u64) {
    let stage = Stage::new(10, 10, gigabytes << 30);
    bencher.bench_local(|| stage.there_and_back());
}
